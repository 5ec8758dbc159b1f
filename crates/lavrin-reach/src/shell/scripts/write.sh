# Puts a new file in place of an old one, with the account's rights, in the folder P under the name B. First the new
# bytes (LN of them) and the old ones (LO, or -1 where there was no file) come on standard input. Then it says "staged",
# waits for "go" and commits. If the line is cut before that, what was staged is swept up.
fail() { rm -f "$T.new" "$T.was" "$T.old"; printf '\n%s fail %s\n' "$N" "$*"; exit 1; }
DD=; if dd bs=1 count=0 iflag=fullblock </dev/null >/dev/null 2>&1; then DD=y; fi
take() { # file bytes: as many as that and no more, in large pieces where dd can wait for a whole one
  if [ -n "$DD" ]; then
    k=$(($2 / 65536)); if [ "$k" -gt 0 ]; then dd bs=65536 count="$k" iflag=fullblock 2>/dev/null >>"$1"; fi
    k=$(($2 % 65536)); if [ "$k" -gt 0 ]; then dd bs="$k" count=1 iflag=fullblock 2>/dev/null >>"$1"; fi
  else dd bs=1 count="$2" 2>/dev/null >>"$1"; fi
  s=$(wc -c <"$1"); s=${s##* }; [ "$s" = "$2" ]
}
is_as_it_was() { case $1 in "$WAS" | "$WAS"?) [ "$3:$4" = "$WHOSE" ] ;; *) false ;; esac; } # what ls says of it
T=.lavrin-$N; umask 077
trap '' HUP PIPE INT TERM # a line that is cut must not keep us from sweeping up
cd -P -- "$R$P" 2>/dev/null && [ "$(pwd -P)" = "$R$P" ] || { T=/nonexistent/x; fail "moved"; }
d=; { read -r x; read -r a b c d x; } <<END
$(df -Pk . 2>/dev/null)
END
r=$d # room in KiB, where the system tells it
case $r in '' | *[!0-9]*) ;; *) [ "$r" -ge $(((LN + (LO > 0 ? LO : 0)) / 1024 + 1)) ] || { T=/nonexistent/x; fail "full $r"; } ;; esac
find . -name '.lavrin-*' -mtime +0 -exec rm -f {} \; 2>/dev/null
x=$(exec 2>&1; set -C; : >"$T.new") || fail "refused: ${x##*: }"
if [ "$LO" -ge 0 ]; then
  if [ -L "$B" ] || [ ! -f "$B" ]; then fail changed; fi
  l=$(ls -ldn -- "$B")
  # What is there has to be what the new file was decided by, whoever said so then.
  is_as_it_was $l || fail changed
  # Extended attributes and the security label, where the system has the means; the rest is set below.
  cp --attributes-only --preserve=xattr -- "$B" "$T.new" 2>/dev/null
  if [ -d /sys/fs/selinux ]; then cp --attributes-only --preserve=context -- "$B" "$T.new" 2>/dev/null; fi
  case $l in ??????????+*)
    if command -v getfacl >/dev/null 2>&1 && command -v setfacl >/dev/null 2>&1; then getfacl -p -- "$B" 2>/dev/null | setfacl --set-file=- -- "$T.new" || fail "access-list"
    else fail "access-list"; fi ;;
  esac
fi
set -- $(ls -ldn -- "$T.new")
if [ "$3" != "$U" ] && ! chown "$U" "$T.new" 2>/dev/null; then
  # An account cannot give back to root what was root's: it stays its own, and as closed as it was.
  if [ -z "$BACK" ]; then fail "owner $U"; fi
  MODE=${BACK%% *} WANTED=${BACK##* } G=$4
fi
if [ "$4" != "$G" ] && ! chgrp "$G" "$T.new" 2>/dev/null; then [ -n "$BACK$GROUP" ] || fail "group $G"; fi
chmod "$MODE" "$T.new" || fail "mode"
set -- $(ls -ldn -- "$T.new"); m=${1%"${1#??????????}"}; if [ "$m" != "$WANTED" ]; then fail "held $m"; fi
take "$T.new" "$LN" || fail "short"
if [ "$LO" -ge 0 ]; then (set -C; : >"$T.was") 2>/dev/null || fail refused; take "$T.was" "$LO" || fail "short"; fi
sync "$T.new" 2>/dev/null || sync
printf '\n%s staged\n' "$N"
r=; IFS= read -r r || r=
if [ "$r" != go ]; then fail cut; fi
if [ "$LO" -ge 0 ]; then
  if [ -L "$B" ] || [ ! -f "$B" ]; then fail changed; fi
  if [ ! -r "$B" ]; then # root has read it, and alone could write it
    set -- $(ls -ldn -- "$B"); { is_as_it_was "$@" && [ "$5" = "$LO" ]; } || fail changed
    x=$(mv -f -- "$T.new" "$B" 2>&1) || fail "refused: $x"
  else
    ln -- "$B" "$T.old" 2>/dev/null || cp -p -- "$B" "$T.old" 2>/dev/null || fail "refused: no copy of the old file could be kept beside it; perhaps it is marked immutable"
    cmp -s -- "$T.old" "$T.was" || fail changed
    x=$(mv -f -- "$T.new" "$B" 2>&1) || fail "refused: $x"
    if ! cmp -s -- "$T.old" "$T.was"; then mv -f -- "$T.old" "$B"; fail changed; fi
  fi
else
  if [ -e "$B" ] || [ -L "$B" ]; then fail changed; fi
  ln -- "$T.new" "$B" 2>/dev/null || mv -- "$T.new" "$B" 2>/dev/null || fail changed
fi
restorecon "$B" 2>/dev/null
rm -f "$T.new" "$T.was" "$T.old"
sync "$B" 2>/dev/null || sync
printf '\n%s done\n' "$N"
