# The usual files of every home in one go, each with the rights of its account.
look_at() { # name uid gid home
  d=$4; while [ -n "$d" ] && [ "$d" != / ]; do d=${d%/*}; if [ -n "$d" ]; then node "$d"; fi; done
  if [ -e "$R$4/.ssh" ] || [ -L "$R$4/.ssh" ] || [ ! -x "$R$4" ]; then
    printf 'N=%s; R=%s\n%s\nusual %s\n' "$K" "$QR" "$F" "$5" | run_as "$1" "$2" "$3"
  else node "$4"; node "$4/.ssh"; fi
}
