# One change of the server or of an account, by root alone. It says "ok" or "fail ...".
is_roots() { # process: it runs as root, and its program, S then, lies where root alone decides
  x=$(readlink "/proc/$1/exe" 2>/dev/null); x=${x%' (deleted)'}; u=
  while read -r k v y; do if [ "$k" = Uid: ]; then u=$v; fi; done <"/proc/$1/status"
  [ "$u" = 0 ] && alone "${x%/*}" && S=$x
}
find_server() { # the program S and its configuration C: that which waits for connections, or is started for each of them
  A=
  if [ -z "$L" ] || [ -z "$S" ]; then
    j=$PPID; t=; z=
    while [ "${j:-0}" -gt 1 ]; do
      case $(readlink "/proc/$j/exe") in */sshd | */sshd-session) t=$j ;; */dropbear | */dropbearmulti) z=$j ;; esac
      n=; while read -r k v; do if [ "$k" = PPid: ]; then n=$v; fi; done <"/proc/$j/status"
      if [ "$t" = "$j" ] && [ "$n" = 1 ]; then A=y; fi
      j=$n
    done 2>/dev/null
    if [ -z "$t" ] && [ -n "$z" ] && is_roots "$z"; then L=$z; C=/etc/default/dropbear; return; fi
    # systemd holds the socket and starts a server for each connection.
    if [ -z "$A" ] || ! grep -q '/ssh[^/]*@[^/]*\.service' "/proc/$t/cgroup"; then fail "no-listener"; fi
    L=; S=$(command -v sshd); [ -n "$S" ] || fail "no-listener"
  fi
}
titled() { case $(tr '\0' ' ' <"/proc/$L/cmdline") in *'[listener]'*) ;; *) return 1 ;; esac; } 2>/dev/null
again() { # the server takes a moment to come back, and says that it listens where it says so at all; one whose socket systemd
  # holds ends, and is started anew for the next connection. Whether it answers a new login shows.
  y=; if titled; then y=y; fi
  kill -HUP "$L" 2>/dev/null || fail "no-listener"
  sleep 1; k=0
  while [ -n "$y" ] && [ -d "/proc/$L" ] && ! titled && [ "$k" -lt 10 ]; do sleep 1; k=$((k + 1)); done
}
service() { # the service V of systemd in which the server runs
  V=; if [ -n "$L" ]; then V=$(sed -n 's#.*/\([^/]*\.service\)$#\1#p' "/proc/$L/cgroup" 2>/dev/null | head -n 1); fi
  case $V in *ssh* | *dropbear*) ;; *) V= ;; esac
}
starts_anew() { # dropbear takes its switches when it starts, and has no test mode; sessions go on meanwhile
  service
  if [ -n "$V" ] && [ -d /run/systemd/system ]; then systemctl restart "$V" >/dev/null 2>&1 || fail "no-listener"
  elif [ -x /etc/init.d/dropbear ]; then /etc/init.d/dropbear restart >/dev/null 2>&1 || fail "no-listener"
  else fail "no-listener"; fi
  sleep 1
}
reload() { # the server reads its configuration again, once its own test mode has taken it
  root || fail "only root can do this"
  find_server
  case $S in */dropbear*) starts_anew; echo ok; return ;; esac
  m=$("$S" -t -f "$C" $O 2>&1) || fail "rejected $(printf '%s\n' "$m" | tail -n 1)"
  if [ -z "$A" ]; then again; fi
  echo ok
}
ends() { # name: the day on which the account ends, as the shadow file has it
  n=$1; while IFS=: read -r a p l i m w s x r; do if [ "$a" = "$n" ]; then echo "$x"; return; fi; done </etc/shadow
}
expire() { # name from to: days since 1970, empty where the account does not end
  root || fail "only root can do this"
  [ "$(ends "$1")" = "$2" ] || fail "changed"
  chage -E "${3:--1}" -- "$1" 2>/dev/null || chage -E "${3:--1}" "$1" 2>/dev/null || fail "no-chage"
  [ "$(ends "$1")" = "$3" ] || fail "changed"
  echo ok
}
