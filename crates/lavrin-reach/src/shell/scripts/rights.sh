# Whose rights are used. What is done in a user's home is done with that user's rights, and what is said there comes through a
# pipe of its own, under a word of its own, for a limited time and up to a limited length: nobody there holds what we write
# into, or speaks for somebody else. D is the way to drop; without root's rights, or in a tree other than /, there is
# nothing to drop.
D=none; SE=; T=${T:-6}; MOST=2621440; LATE=0
if [ "$ME" = 0 ] && [ -z "$R" ]; then
  if timeout -s KILL 5 true 2>/dev/null; then TO=y; fi
  if setpriv --reuid 0 --regid 0 --clear-groups true 2>/dev/null; then D=setpriv
  elif command -v runuser >/dev/null 2>&1; then D=runuser
  elif command -v su >/dev/null 2>&1; then D=su
  else D=cannot; fi
  # Where there is a terminal, what runs as an account could write to it, and type for us: it gets a session without one.
  if (: </dev/tty) 2>/dev/null; then
    if command -v setsid >/dev/null 2>&1; then SE=setsid; else D=cannot; fi
  fi
fi
own() { [ "$D" = none ] || [ "$1" = "$ME" ]; } # whether a uid is the one that runs this
as() { # name uid gid command: runs /bin/sh -c command as the account, for T seconds; standard input is handed through
  if own "$2"; then /bin/sh -c "$4"; return; fi
  set -- "$1" "$2" "$3" "$4" env -i "PATH=$PATH" LC_ALL=C
  case $D in
    setpriv) set -- "$@" setpriv --reuid "$2" --regid "$3" --init-groups /bin/sh -c "$4" ;;
    runuser) set -- "$@" runuser -u "$1" -- /bin/sh -c "$4" ;;
    su) set -- "$@" su -s /bin/sh "$1" -c "$4" ;;
    *) return 95 ;;
  esac
  shift 4; within "$T" $SE "$@"
}
heard() { # name uid gid command: the same, through a pipe of its own
  if own "$2"; then as "$@" </dev/null
  else { { X=exec; as "$@" </dev/null 2>/dev/null; } & } 2>/dev/null | (X=exec; within $((T + 1)) head -c "$MOST"); fi
}
word() { # a word that nobody else knows, in k
  k=; { IFS= read -r k </proc/sys/kernel/random/uuid; } 2>/dev/null
  if [ -z "$k" ]; then k=$(od -An -N16 -tx1 /dev/urandom 2>/dev/null | tr -d ' \n'); fi
  [ -n "$k" ]
}
tell() { printf 'N=%s; R=%s\n%s\n%s\nprintf "\\n%%s Z\\n" "$N"\n' "$k" "$QR" "$F" "$1"; }
ask_as() { # name uid gid script: the functions and a script as the account
  word || return
  b "a $k $1"
  if own "$2"; then tell "$4" | /bin/sh -s 2>/dev/null
  else
    { tell "$4" 2>/dev/null | { X=exec; as "$1" "$2" "$3" 'exec /bin/sh -s'; } 2>/dev/null & } |
      (X=exec; within $((T + 1)) head -c "$MOST")
  fi
  x=$?; e $x
  # Where several let us wait, the next ones have less time, so that they cannot use up that of the host.
  case $x in 124 | 137 | 143) LATE=$((LATE + 1)); if [ "$LATE" -ge 3 ]; then T=1; fi ;; esac
}
content_of() { # name uid gid path limit: a key file outside of a home: by root where root alone decides what is there
  if own "$2" || ! alone "${4%/*}"; then ask_as "$1" "$2" "$3" "content $6 $5"; else content "$4" "$5"; fi
}
unswappable() { # enters the folder of a path, where that is root's alone, so that nobody can swap what is in it
  cd -P -- "$R${1%/*}" 2>/dev/null && [ "$(pwd -P)" = "$R${1%/*}" ] || return 1
  set -- $(ls -ldn .); case $1 in ?????w* | ????????w*) return 1 ;; esac
  [ "$3" = 0 ]
}
roots_node() { # like node, by root, where the account itself may not look
  b "n $1"; ( unswappable "$1" && ls -ldn -- "${1##*/}" 2>&1 || { echo 'Permission denied'; exit 1; } ); e $?
}
roots_own() { # like content, by root, where the account itself may not read
  b "c $1"; if ( unswappable "$1" ); then judged "$R$1" 16777216; else left_by_root "$R$1" 16777216; fi; e $?
}
left_by_root() { # a file of root's in a folder of the account, judged once it is open
  # The account may have linked any file of root's there: it is told only where each line is a key, a comment or blank.
  within 10 /bin/sh -c 'exec 3<"$1" || exit 96
set -- "$1" "$2" $(ls -ldnL /proc/self/fd/3)
case $3 in -*) ;; *) exit 97 ;; esac
[ "$4:$5" = 1:0 ] && [ "$(readlink /proc/self/fd/3)" = "$1" ] || exit 96
[ "$7" -le "$2" ] || exit 98
k="(ssh-(rsa|dss|ed25519)|ecdsa-sha2-nistp(256|384|521)|sk-(ssh-ed25519|ecdsa-sha2-nistp256)@openssh\\.com)[[:space:]]+AAAA"
grep -Eq "$k" /proc/self/fd/3 || exit 94
if grep -Evq "^[[:space:]]*(#.*)?$|$k" /proc/self/fd/3; then exit 94; fi
cat <&3' sh "$1" "$2" 2>/dev/null
}
