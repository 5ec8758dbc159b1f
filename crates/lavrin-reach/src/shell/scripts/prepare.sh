# Changes of modes, owners and folders. Each says "ok N" or fails; the caller stops at the first failure.
fail() { printf 'fail %s\n' "$*"; exit 1; }
inside() { cd -P -- "$R$1" 2>/dev/null && [ "$(pwd -P)" = "$R$1" ] || fail "moved $1"; }
line() { ls -ldn -- "$1" 2>/dev/null || fail "gone $1"; }
same() { [ "$(line "$1" | cut -c1-10)" = "$2" ] || fail "changed $1"; }
owned() { set -- $(line "$1") "$2"; eval "w=\${$#}"; [ "$3:$4" = "$w" ] || fail "changed owner"; }
remember() { # owner and mode of the folder we are in, for back
  set -- $(line .); y="$3:$4"; z=$(echo "$1" | cut -c2-10)
  z="u=$(echo "$z" | cut -c1-3 | tr -d -),g=$(echo "$z" | cut -c4-6 | tr -d -),o=$(echo "$z" | cut -c7-9 | tr -d -)"
}
back() { chmod "$z" . && chown "$y" .; }
