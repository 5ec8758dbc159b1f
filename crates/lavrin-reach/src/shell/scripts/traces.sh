# What somebody leaves behind on a host. KEYS holds the texts of their keys, one a line. Nothing is judged here.
t() { if command -v timeout >/dev/null 2>&1; then timeout 20 "$@"; else "$@"; fi; }
if [ -z "$R" ]; then # in a tree nothing runs
b processes; { ps -e -o pid= -o ppid= -o user= -o comm= || ps -o pid,ppid,user,comm; } 2>/dev/null; e 0
b mine; j=$PPID # the processes that this one descends from
while [ "${j:-0}" -gt 1 ]; do
  echo "$j"; n=; while read -r k v; do if [ "$k" = PPid: ]; then n=$v; fi; done <"/proc/$j/status"; j=$n
done 2>/dev/null; e 0
P=
b open # each session: its process, when that started in seconds since 1970, and whose it is
k=; v=; B=; while read -r k v; do if [ "$k" = btime ]; then B=$v; fi; done </proc/stat
H=$(getconf CLK_TCK 2>/dev/null || echo 100)
for f in /proc/[0-9]*; do
  w=$(tr '\0' ' ' 2>/dev/null <"$f/cmdline")
  case $w in 'sshd: '*' [priv]'* | 'sshd-session: '*' [priv]'* | 'sshd: root@'* | 'sshd-session: root@'*) ;; *) continue ;; esac
  case $(readlink "$f/exe" 2>/dev/null) in */sshd | */sshd-session | */sshd' (deleted)' | */sshd-session' (deleted)') ;; *) continue ;; esac
  u=; while read -r k v y; do if [ "$k" = Uid: ]; then u=$v; fi; done <"$f/status" 2>/dev/null
  [ "$u" = 0 ] || continue
  s=; read -r s <"$f/stat"; set -f; set -- ${s##*) }; set +f
  [ $# -gt 19 ] || continue
  shift 19; n=${w#*: }; n=${n%%[@ ]*}
  printf '%s %s %s\n' "${f#/proc/}" "$((B + $1 / H))" "$n"; P="$P ${f#/proc/}"
done 2>/dev/null; e 0
b agents; ls -1 -d /tmp/ssh-*/agent.* 2>/dev/null; e 0
b clock; date '+%s %z' 2>/dev/null; e $?
b accepted # what the log says of these processes. The journal knows by itself who wrote; into a file anybody may write
for p in $P; do
  if command -v journalctl >/dev/null 2>&1 && [ -n "$(t journalctl -q --no-pager -n 1 2>/dev/null)" ]; then
    t journalctl -q --no-pager -o short-iso _UID=0 _PID="$p" 2>/dev/null | grep 'Accepted publickey for ' | head -n 20
  else
    for f in /var/log/messages /var/log/secure /var/log/auth.log; do
      if [ -r "$f" ]; then tail -c 33554432 "$f" 2>/dev/null | grep "\\[$p\\]: Accepted publickey for " | tail -n 200; fi
    done
  fi
done; e 0
b crontabs; ls -1 /var/spool/cron/crontabs /var/spool/cron /etc/crontabs 2>/dev/null; e 0
b lingering; ls -1 /var/lib/systemd/linger 2>/dev/null; e 0
b cron; cat /etc/crontab /etc/cron.d/* 2>/dev/null | grep -v '^[[:space:]]*#' | head -c 65536; e 0
fi
if [ -n "$R" ]; then cat "$R/etc/passwd"; else { getent passwd || cat /etc/passwd; } 2>/dev/null; fi | while IFS=: read -r n p u g c h s; do
  case $h in '' | / | /nonexistent | /dev/null) continue ;; esac
  if [ -d "$R$h/.ssh" ]; then
    q="'$(printf '%s' "$R$h/.ssh" | sed "s/'/'\\\\''/g")'"
    ask_as "$n" "$u" "$g" "b copies; cd -P -- $q 2>/dev/null && for f in * .[!.]*; do if [ -f \"\$f\" ] && printf '%s\\n' '$KEYS' | grep -qF -f - -- \"\$f\" 2>/dev/null; then printf '%s\\n' \"\$f\"; fi; done; e 0"
  fi
done
