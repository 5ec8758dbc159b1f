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
