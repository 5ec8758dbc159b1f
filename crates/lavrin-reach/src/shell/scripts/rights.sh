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
unswappable() { # enters the folder of a path, where that is root's alone, so that nobody can swap what is in it
  cd -P -- "${1%/*}" 2>/dev/null && [ "$(pwd -P)" = "${1%/*}" ] || return 1
  set -- $(ls -ldn .); case $1 in ?????w* | ????????w*) return 1 ;; esac
  [ "$3" = 0 ]
}
roots_node() { # like node, by root, where the account itself may not look
  b "n $1"; ( unswappable "$1" && ls -ldn -- "${1##*/}" 2>&1 || { echo 'Permission denied'; exit 1; } ); e $?
}
roots_own() { # like content, by root, where the account itself may not read
  b "c $1"
  ( x=${1##*/}; unswappable "$1" || exit 96
    if [ -L "$x" ] || [ ! -f "$x" ]; then exit 97; fi
    set -- $(ls -ldn -- "$x"); if [ "$2" != 1 ]; then exit 96; fi
    s=$(wc -c <"$x"); s=${s##* }; if [ "${s:-0}" -gt 16777216 ]; then exit 98; fi
    cat -- "$x" )
  e $?
}
