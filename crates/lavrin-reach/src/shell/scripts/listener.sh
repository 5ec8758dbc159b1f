# The server's own command line names its configuration: it is among the processes that this one descends from. It counts only
# where the process is root's and its program lies where root alone decides: others name their processes as they like.
C=/etc/ssh/sshd_config; S=; O=; L=; j=$PPID
is_server() { # process: S is its program then
  x=$(readlink "/proc/$1/exe" 2>/dev/null)
  case $x in */sshd) ;; *) [ "$ME" != 0 ] || return ;; esac
  u=; while read -r k v y; do if [ "$k" = Uid: ]; then u=$v; fi; done <"/proc/$1/status"
  [ "$u" = 0 ] && { [ "$ME" != 0 ] || alone "${x%/*}"; } && S=${x:-$S}
}
if [ -z "$R" ]; then
  while [ "${j:-0}" -gt 1 ]; do
    w=$(tr '\0' ' ' 2>/dev/null <"/proc/$j/cmdline")
    case $w in
      sshd:*'[listener]'* | */sshd\ *)
        if ! is_server "$j"; then w=; fi ;;
    esac
    case $w in
      sshd:*'[listener]'* | */sshd\ *)
        set -f; set -- $w; set +f
        while [ $# -gt 0 ]; do
          case $1 in
            -f) C=$2 ;; -f?*) C=${1#-f} ;;
            -o) O="$O -o $2" ;; -o?*) O="$O $1" ;;
          esac; shift
        done; L=$j; break ;;
    esac
    n=; while read -r k v; do if [ "$k" = PPid: ]; then n=$v; fi; done <"/proc/$j/status"
    j=$n
  done 2>/dev/null
fi
