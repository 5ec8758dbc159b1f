# The first look: who we are, the accounts, what runs the logins, homes on a network. A names one account, or is empty.
b uid; echo "$ME"; e 0
b passwd
if [ -n "$R" ]; then cat "$R/etc/passwd"; else
  if [ -n "$A" ]; then getent passwd "$A" 2>/dev/null; fi
  getent passwd 2>/dev/null || cat /etc/passwd
fi; e $?
b group; if [ -n "$R" ]; then cat "$R/etc/group" 2>/dev/null; else getent group 2>/dev/null || cat /etc/group; fi; e $?
b shadow # the state of each password and the dates: a hash never leaves the host
if [ -r "$R/etc/shadow" ]; then
  while IFS=: read -r n p r; do
    case $p in '') s= ;; '!'*) s='!' ;; '$'* | _* | ?????????????) s='$' ;; *) s='*' ;; esac
    printf '%s:%s:%s\n' "$n" "$s" "$r"
  done <"$R/etc/shadow"
fi; p=; r=; e 0
b mounts; M=
if [ -z "$R" ] && [ -r /proc/mounts ]; then
  while read -r d m t o; do
    case $t in nfs | nfs4 | cifs | smb3 | smbfs | 9p | afs | ceph | glusterfs | lustre | fuse.sshfs | fuse.glusterfs) printf '%s %s\n' "$m" "$d" ;; esac
  done </proc/mounts
fi; e 0
# The server's own command line names its configuration: it is among the processes that this one descends from. It counts only
# where the process is root's and its program lies where root alone decides: others name their processes as they like.
C=/etc/ssh/sshd_config; S=; O=; q=$PPID
is_server() { # process: S is its program then
  x=$(readlink "/proc/$1/exe" 2>/dev/null)
  case $x in */sshd) ;; *) [ "$ME" != 0 ] || return ;; esac
  u=; while read -r k v y; do if [ "$k" = Uid: ]; then u=$v; fi; done <"/proc/$1/status"
  [ "$u" = 0 ] && { [ "$ME" != 0 ] || alone "${x%/*}"; } && S=${x:-$S}
}
if [ -z "$R" ]; then
  while [ "${q:-0}" -gt 1 ]; do
    w=$(tr '\0' ' ' 2>/dev/null <"/proc/$q/cmdline")
    case $w in
      sshd:*'[listener]'* | */sshd\ *)
        if ! is_server "$q"; then w=; fi ;;
    esac
    case $w in
      sshd:*'[listener]'* | */sshd\ *)
        set -f; set -- $w; set +f
        while [ $# -gt 0 ]; do
          case $1 in
            -f) C=$2 ;; -f?*) C=${1#-f} ;;
            -o) O="$O -o $2" ;; -o?*) O="$O $1" ;;
          esac; shift
        done; break ;;
    esac
    n=; while read -r k v; do if [ "$k" = PPid: ]; then n=$v; fi; done <"/proc/$q/status"
    q=$n
  done 2>/dev/null
fi
b config; printf '%s' "$C"; e 0
content "$C" 1048576
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
