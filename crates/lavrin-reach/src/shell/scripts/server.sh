# One change of the server or of an account, by root alone. It says "ok" or "fail ...".
reload() { # the server reads its configuration again, once its own test mode has taken it
  root || fail "only root can do this"
  if [ -z "$L" ] || [ -z "$S" ]; then fail "no-listener"; fi
  m=$("$S" -t -f "$C" $O 2>&1) || fail "rejected $(printf '%s\n' "$m" | tail -n 1)"
  kill -HUP "$L" 2>/dev/null || fail "no-listener"
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
