# One change of the server or of an account, by root alone. It says "ok" or "fail ...".
find_server() { # the program S and its configuration C: that which waits for connections, or is started for each of them
  A=
  if [ -z "$L" ] || [ -z "$S" ]; then
    j=$PPID; t=
    while [ "${j:-0}" -gt 1 ]; do
      case $(readlink "/proc/$j/exe") in */sshd | */sshd-session) t=$j ;; esac
      n=; while read -r k v; do if [ "$k" = PPid: ]; then n=$v; fi; done <"/proc/$j/status"
      if [ "$t" = "$j" ] && [ "$n" = 1 ]; then A=y; fi
      j=$n
    done 2>/dev/null
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
reload() { # the server reads its configuration again, once its own test mode has taken it
  root || fail "only root can do this"
  find_server
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
