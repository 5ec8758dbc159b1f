# Lavrin: settings of the SSH server that were not proven are put back. $1: "boot" at the start of the host, "now", or nothing.
PATH=/usr/sbin:/usr/bin:/sbin:/bin:/run/current-system/sw/bin; export PATH; umask 077
D=${0%/*}; read -r U <"$D/name"; U=lavrin-put-back-$U
# Whoever makes this folder first decides.
mkdir "$D/taken" 2>/dev/null || exit 1
{ read -r S; read -r C; read -r L; read -r V; read -r O; read -r R; } <"$D/server"
n=0
while [ -f "$D/$n.path" ]; do
  IFS= read -r p <"$D/$n.path"
  # What somebody else has written meanwhile stays.
  if [ -f "$p" ] && [ ! -L "$p" ] && cmp -s -- "$p" "$D/$n.new"; then
    if [ -e "$D/$n.old" ]; then mv -f -- "$D/$n.old" "$p"; else rm -f -- "$p"; fi
  fi
  n=$((n + 1))
done
sync
listens() { # process
  x=$(readlink "/proc/$1/exe" 2>/dev/null); x=${x%' (deleted)'}
  [ "$x" = "$S" ] || return
  x=$(tr '\0' ' ' <"/proc/$1/cmdline")
  case $x in *sshd*'[listener]'* | */sshd\ *) ;; *) return 1 ;; esac
  # Another server reads another configuration.
  if [ "$C" = /etc/ssh/sshd_config ]; then case $x in *' -f '*) return 1 ;; esac
  else case $x in *"$C"*) ;; *) return 1 ;; esac; fi
} 2>/dev/null
reads_again() { # the server, by whatever runs it now
  case $S in
    */dropbear*)
      if [ -n "$V" ] && systemctl restart "$V"; then return; fi
      if [ -x /etc/init.d/dropbear ] && [ "$1" != boot ]; then /etc/init.d/dropbear restart; fi
      return ;;
  esac
  if listens "$L" && kill -HUP "$L"; then sleep 1; if listens "$L"; then return; fi; fi
  if [ -n "$V" ] && systemctl restart "$V"; then return; fi
  for j in /proc/[0-9]*; do if listens "${j#/proc/}" && kill -HUP "${j#/proc/}"; then return; fi; done
  if [ "$1" != boot ]; then "$S" -f "$C" $O; fi
} 2>/dev/null
# Without a process that waits for connections each one starts a server of its own, which reads everything anew.
if [ -n "$L" ] && ! { [ "$1" = boot ] && [ -d /run/systemd/system ]; }; then reads_again "$1" </dev/null >/dev/null; fi
if [ -z "$R" ]; then logger -t lavrin -p auth.notice -- "keys-only: the settings were not proven in time and are as they were before" 2>/dev/null; fi
if [ -z "$R" ]; then rm -f "/etc/cron.d/$U" "/etc/systemd/system/$U-boot.service" "/etc/systemd/system/multi-user.target.wants/$U-boot.service"; fi
if [ -s "$D/pid" ] && [ -n "$1" ]; then
  read -r p <"$D/pid"
  case $(tr '\0' ' ' <"/proc/$p/cmdline") in *"$D"*) kill -KILL "-$p" || kill -KILL "$p" ;; esac 2>/dev/null
fi
rm -rf "$D"
if [ -z "$R" ] && [ -d /run/systemd/system ] && [ "$1" != boot ]; then
  systemctl daemon-reload 2>/dev/null
  if [ "$1" = now ]; then systemctl stop "$U.timer" 2>/dev/null; fi
fi
exit 0
