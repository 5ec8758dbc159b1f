# What the server says itself, and who is logged in.
b config; printf '%s' "$C"; e 0
b options; printf '%s' "$O"; e 0
content "$C" 1048576
b started # the server, in seconds since 1970
if [ -n "$L" ]; then
  k=; v=; n=; while read -r k v; do if [ "$k" = btime ]; then n=$v; fi; done </proc/stat
  w=; read -r w <"/proc/$L/stat"; set -f; set -- ${w##*) }; set +f
  if [ -n "$n" ] && [ $# -gt 19 ]; then shift 19; echo $((n + $1 / $(getconf CLK_TCK 2>/dev/null || echo 100))); fi
fi 2>/dev/null; e 0
b changed # each file of the configuration, the same
if [ -n "$L" ]; then stat -c '%Y %n' "$C" "${C%/*}"/sshd_config.d/*.conf 2>/dev/null; fi; e 0
if [ -z "$S" ]; then S=$(command -v sshd 2>/dev/null); fi
if [ -n "$A" ] && [ "$ME" = 0 ] && [ -z "$R" ] && [ -n "$S" ]; then
  h=${SSH_CONNECTION%% *}; h=${h:-127.0.0.1}
  b said; "$S" -T -f "$C" $O -C "user=$A,host=$h,addr=$h" 2>/dev/null; e $?
fi
b sessions; if [ -n "$A" ] && [ -z "$R" ]; then
  c=0; for f in /proc/[0-9]*/cmdline; do
    w=$(tr '\0' ' ' 2>/dev/null <"$f"); case $w in "sshd: $A@"* | "sshd-session: $A@"*) c=$((c + 1)) ;; esac
  done; echo "$c"
elif [ -z "$R" ]; then
  { ps -e -o args= || ps -o args; } 2>/dev/null | while read -r p n r; do
    case "$p $n" in 'sshd: '?*@* | 'sshd-session: '?*@*) printf '%s\n' "${n%%@*}" ;; esac
  done
fi; e 0
