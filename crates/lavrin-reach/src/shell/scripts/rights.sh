# Dropping to an account. What runs in a user's home runs with that user's rights, so that nothing in it can lead root
# astray. D is the way to drop; without root's rights, or in a stand-in's tree, there is nothing to drop.
D=none
if [ "$ME" = 0 ] && [ -z "$R" ]; then
  if setpriv --reuid 0 --regid 0 --clear-groups true 2>/dev/null; then D=setpriv
  elif command -v runuser >/dev/null 2>&1; then D=runuser
  elif command -v su >/dev/null 2>&1; then D=su
  else D=cannot; fi
fi
as() { # name uid gid command: runs /bin/sh -c command as the account, standard input is handed through
  if [ "$D" = none ] || [ "$2" = "$ME" ]; then /bin/sh -c "$4"
  elif [ "$D" = setpriv ]; then setpriv --reuid "$2" --regid "$3" --init-groups /bin/sh -c "$4"
  elif [ "$D" = runuser ]; then runuser -u "$1" -- /bin/sh -c "$4"
  elif [ "$D" = su ]; then su -s /bin/sh "$1" -c "$4"
  else return 95; fi
}
run_as() { # name uid gid: runs the functions and the script on standard input as the account, framed by our nonce
  b "a $1"; as "$1" "$2" "$3" 'exec /bin/sh -s' 2>/dev/null; e $?
}
