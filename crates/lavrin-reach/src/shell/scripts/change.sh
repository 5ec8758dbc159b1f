# One change of modes, owners and folders. It says "ok" or "fail ..."; the caller stops at the first failure. Whose rights are
# used is decided here and now: root's where root alone decides what a name means, or on the folder that was entered, as ".";
# else the account's.
fail() { printf 'fail %s\n' "$*"; exit 1; }
inside() { cd -P -- "$R$1" 2>/dev/null && [ "$(pwd -P)" = "$R$1" ] || fail "moved $1"; }
line() { ls -ldn -- "$1" 2>/dev/null || fail "gone $1"; }
same() { [ "$(line "$1" | cut -c1-10)" = "$2" ] || fail "changed $1"; }
owned() { set -- $(line "$1") "$2"; eval "w=\${$#}"; [ "$3:$4" = "$w" ] || fail "changed owner"; }
root() { [ "$ME" = 0 ] && [ -z "$R" ]; }
keys_only() { # what is given away must hold nothing else that was root's to keep
  for f in * .[!.]* ..?*; do
    if [ ! -e "$f" ] && [ ! -L "$f" ]; then continue; fi
    case $f in authorized_keys | authorized_keys2 | known_hosts | known_hosts.old | config | environment | rc | *.pub | id_*) ;; *) fail "holds $f" ;; esac
    if [ -L "$f" ] || [ ! -f "$f" ]; then fail "holds $f"; fi
  done
}
