in_folder() { # name uid gid folder steps: work on what a folder holds
  if ! root || alone "$4"; then ( eval "$5" ) 2>/dev/null
  elif [ "$2" = 0 ]; then echo "fail open $4"
  else heard "$1" "$2" "$3" "ME=$2; R=; $5"; fi
}
on_folder() { # name uid gid folder steps: work on the folder itself
  o=; if root; then o=$(cd -P -- "$4" 2>/dev/null && [ "$(pwd -P)" = "$4" ] && set -- $(ls -ldn .) && echo "$3"); fi
  if ! root || [ "$2" = 0 ] || [ "$o" = 0 ] || [ -n "$6" ]; then ( eval "$5" ) 2>/dev/null
  else heard "$1" "$2" "$3" "ME=$2; R=; $5"; fi
}
relay() { # what stages and commits a file gets its bytes, and then the word, through a pipe of its own
  # A terminal is not read by what runs apart from us.
  if [ -n "$SE" ]; then head -c "$1" <&3; else within "$T" head -c "$1" <&3; fi
  IFS= read -r r <&3 && echo "$r"
}
write_in() { # name uid gid folder command: what stages and commits a file
  if ! root || alone "$4"; then /bin/sh -c "$5"
  elif [ "$2" = 0 ]; then printf '\n%s fail open %s\n' "$K" "$4"
  else as "$1" "$2" "$3" "$5"; fi
}
