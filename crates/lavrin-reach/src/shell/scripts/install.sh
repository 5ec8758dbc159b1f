# Puts the line L, whose key is X (both quoted), into the usual key file of account A, with the rights of that account.
say() { echo; echo "lavrin-change-1 $I $*"; }
put() { # what runs as the account
  cat <<'END'
umask 077
fail() { rm -f .lavrin-new 2>/dev/null; echo "as-before $*"; exit 1; }
cd -P -- "$H" 2>/dev/null || fail "the home $H cannot be entered"
if [ ! -e .ssh ] && [ ! -L .ssh ]; then mkdir -m 700 .ssh || fail "no folder .ssh could be made"; fi
if [ -L .ssh ] || [ ! -d .ssh ]; then fail "$H/.ssh is a link or no folder"; fi
cd -P .ssh && [ "$(pwd -P)" = "$(cd -P -- "$H" && pwd -P)/.ssh" ] || fail "$H/.ssh is not where it should be"
if [ -L authorized_keys ] || { [ -e authorized_keys ] && [ ! -f authorized_keys ]; }; then fail "$H/.ssh/authorized_keys is a link or no file"; fi
if [ -f authorized_keys ] && grep -F -e "$X" authorized_keys >/dev/null; then echo "done the key is there already"; exit 0; fi
if [ -s authorized_keys ]; then # setting modes right would bring what stands there to life
  case $(ls -ld -- "$H/." . authorized_keys | cut -c6,9) in
    *w*) fail "others may write the home, .ssh or the key file, so the server ignores the entries there; look at them, then: chmod go-w $H $H/.ssh $H/.ssh/authorized_keys" ;;
  esac
fi
rm -f .lavrin-new; (set -C; : >.lavrin-new) 2>/dev/null || fail "nothing can be written in $H/.ssh"
if [ -f authorized_keys ]; then
  cat authorized_keys >.lavrin-new || fail "not all bytes could be copied"
  if [ -s .lavrin-new ] && [ -n "$(tail -c 1 .lavrin-new)" ]; then echo >>.lavrin-new; fi
fi
printf '%s\n' "$L" >>.lavrin-new || fail "the line could not be written"
if [ -f authorized_keys ]; then
  s=$(wc -c <authorized_keys); t=$(wc -c <.lavrin-new)
  if [ "$t" -le "$s" ]; then fail "not all bytes were written"; fi
fi
chmod 600 .lavrin-new && chmod 700 . || fail "the modes could not be set"
sync .lavrin-new 2>/dev/null || sync
mv -f .lavrin-new authorized_keys || fail "the file could not be put in place"
echo done
END
}
w=$({ getent passwd "$A" || grep "^$A:" /etc/passwd; } 2>/dev/null | head -n 1)
if [ "$ME" != 0 ]; then say 'as-before only root can do this'
elif [ -z "$w" ]; then say "as-before there is no account $A"
else
  u=$(echo "$w" | cut -d: -f3); g=$(echo "$w" | cut -d: -f4); H=$(echo "$w" | cut -d: -f6)
  f=$({ sshd -T -C "user=$A,host=localhost,addr=127.0.0.1"; } 2>/dev/null | sed -n 's/^authorizedkeysfile //p')
  case " $f " in
    '  ' | *' .ssh/authorized_keys '* | *' %h/.ssh/authorized_keys '* | *" $H/.ssh/authorized_keys "*)
      q="'$(printf '%s' "$H" | sed "s/'/'\\\\''/g")'"
      y=$(heard "$A" "$u" "$g" "H=$q; L=$L; X=$X
$(put)" | tail -n 1); say "${y:-as-before nothing could be run as $A}" ;;
    *) say "as-before the server reads another file for $A: $f" ;;
  esac
fi
