# Accounts and groups, by root alone. It says "ok" or "fail ...".
line_of() { { getent "$1" "$2" || grep -- "^$2:" "/etc/$1"; } 2>/dev/null | head -n 1; } # passwd|group name
field_of() { n=$1; while IFS=: read -r a p x; do if [ "$a" = "$n" ]; then echo "$p"; return; fi; done </etc/shadow; }
make_account() { # name shell home: without a password
  root || fail "only root can do this"
  [ -z "$(line_of passwd "$1")" ] || fail changed
  s=$2; if [ -z "$s" ]; then s=/bin/sh; if [ -x /bin/bash ]; then s=/bin/bash; fi; fi
  if command -v useradd >/dev/null 2>&1; then
    if [ -n "$3" ]; then m=$(useradd -m -d "$3" -s "$s" -p '*' -- "$1" 2>&1)
    else m=$(useradd -m -s "$s" -p '*' -- "$1" 2>&1); fi
  elif command -v adduser >/dev/null 2>&1; then
    if [ -n "$3" ]; then m=$(adduser -D -h "$3" -s "$s" "$1" 2>&1)
    else m=$(adduser -D -s "$s" "$1" 2>&1); fi
    # A field that begins with ! is a lock to a server that does not ask PAM.
    if [ -n "$(line_of passwd "$1")" ]; then printf '%s:*\n' "$1" | chpasswd -e >/dev/null 2>&1; fi
  else fail no-useradd; fi
  [ -n "$(line_of passwd "$1")" ] || fail "refused: $(printf '%s\n' "$m" | tail -n 1)"
  case $(field_of "$1") in '*') ;; *) usermod -p '*' -- "$1" 2>/dev/null ;; esac
  [ "$(field_of "$1")" = '*' ] || fail "refused: the account is there, and its password field is not as it should be"
  echo ok
}
is_in() { case ",$(line_of group "$2" | cut -d: -f4)," in *",$1,"*) ;; *) return 1 ;; esac; } # account group
join() { # account group
  root || fail "only root can do this"
  { usermod -a -G "$2" -- "$1" || gpasswd -a "$1" "$2" || addgroup "$1" "$2"; } >/dev/null 2>&1
  is_in "$1" "$2" || fail no-gpasswd
  echo ok
}
leave() { # account group
  root || fail "only root can do this"
  { gpasswd -d "$1" "$2" || delgroup "$1" "$2"; } >/dev/null 2>&1
  if is_in "$1" "$2"; then fail no-gpasswd; fi
  echo ok
}
started_at() { # process: in seconds since 1970
  k=; v=; B=; while read -r k v; do if [ "$k" = btime ]; then B=$v; fi; done </proc/stat
  s=; read -r s <"/proc/$1/stat" || return; set -f; set -- ${s##*) }; set +f
  if [ $# -gt 19 ]; then shift 19; echo $((B + $1 / $(getconf CLK_TCK 2>/dev/null || echo 100))); fi
} 2>/dev/null
end_session() { # name process start: never the one that this runs in
  root || fail "only root can do this"
  j=$PPID
  while [ "${j:-0}" -gt 1 ]; do
    if [ "$j" = "$2" ]; then fail "refused: it is the session of this very login"; fi
    n=; while read -r k v; do if [ "$k" = PPid: ]; then n=$v; fi; done <"/proc/$j/status"; j=$n
  done 2>/dev/null
  [ -d "/proc/$2" ] || { echo ok; return; } # it has ended by itself
  d=$(($(started_at "$2") - $3)); case $d in -1 | 0 | 1) ;; *) fail changed ;; esac
  case $(tr '\0' ' ' <"/proc/$2/cmdline") in 'sshd: '"$1"[@\ ]* | 'sshd-session: '"$1"[@\ ]*) ;; *) fail changed ;; esac
  kill -TERM "$2" 2>/dev/null
  k=0; while [ -d "/proc/$2" ] && [ "$k" -lt 5 ]; do sleep 1; k=$((k + 1)); done
  [ ! -d "/proc/$2" ] || fail "refused: the session did not end"
  echo ok
}
