# The host itself takes changes of the server's settings back, unless they are proven in time. What it needs for that lies in a
# hidden folder beside the settings, so that it is there as long as they are. It says "ok ..." or "fail ...".
fail() { if [ -n "$D" ]; then rm -rf "$D"; fi; printf 'fail %s\n' "$*"; exit 1; }
D=
folder() { d=$2; U=lavrin-put-back-$1; } # name folder
counts() { # whether somebody still counts the time of what lies there
  if [ -s "$d/pid" ]; then
    read -r p <"$d/pid"
    case $(tr '\0' ' ' <"/proc/$p/cmdline") in *"$d"*) return 0 ;; *) return 1 ;; esac
  fi
  read -r n <"$d/name" && systemctl is-active --quiet "lavrin-put-back-$n.timer"
} 2>/dev/null
begin() { # name
  root || fail "only root can do this"
  find_server
  alone "${C%/*}" || fail "open ${C%/*}"
  folder "$1" "${C%/*}/.put-back"
  m=$(mkdir -m 700 -- "$d" 2>&1) || {
    [ -d "$d" ] || fail "refused: ${m##*: }"
    if counts; then fail busy; fi
    if [ ! -d "$d/taken" ]; then # nobody counts any more, as after a restart of the host: it is put back now
      /bin/sh "$d/run" now >/dev/null 2>&1; fail changed
    fi
    # It was decided already, and what decided was cut off while it tidied up.
    k=0; while [ -d "$d" ] && [ "$k" -lt 5 ]; do sleep 1; k=$((k + 1)); done
    read -r n <"$d/name" 2>/dev/null && forget "lavrin-put-back-$n"
    rm -rf "$d"; mkdir -m 700 -- "$d" 2>/dev/null || fail busy
  }
  D=$d; printf '%s\n' "$1" >"$D/name" || fail short
}
mine() { [ -d "$d" ] && read -r n <"$d/name" && [ "$n" = "$1" ]; }
keep() { # number path new: a file as it is, and as it is to be
  printf '%s\n' "$R$2" >"$D/$1.path" && printf '%b' "$3" >"$D/$1.new" || fail short
  alone "${2%/*}" || fail "open ${2%/*}"
  if [ -e "$R$2" ]; then
    # A second name of the same file needs no room and keeps everything; it outlasts the change, which puts a new file there.
    ln -- "$R$2" "$D/$1.old" 2>/dev/null || cp -p -- "$R$2" "$D/$1.old" 2>/dev/null || fail "refused: no copy of $2 could be kept"
  fi
}
arm() { # seconds: from now on
  service
  printf '%s\n' "$S" "$C" "$L" "$V" "$O" "$R" >"$D/server" && printf '%s\n' "$H" >"$D/run" || fail short
  sync "$D/run" 2>/dev/null || sync
  how=process; boot=no
  if [ -n "$R" ]; then : # in a tree other than / there is nothing that starts again
  elif [ -d /run/systemd/system ] && command -v systemd-run >/dev/null 2>&1; then
    systemd-run --quiet --collect --unit="$U" --on-active="$1s" --timer-property=AccuracySec=100ms /bin/sh "$D/run" >/dev/null 2>&1 && how=systemd
    boot_by_systemd && boot=yes
  elif [ -d /etc/cron.d ] && cat /proc/[0-9]*/comm 2>/dev/null | grep -Eqx 'cron|crond'; then
    printf '@reboot root /bin/sh %s boot\n' "$D/run" >"/etc/cron.d/$U" 2>/dev/null && boot=yes
  fi
  if [ "$how" = process ]; then
    w='echo $$ >"$1/pid"; sleep "$2"; exec /bin/sh "$1/run"'
    x=; command -v setsid >/dev/null 2>&1 && x=setsid
    ( trap '' HUP; cd / && exec $x /bin/sh -c "$w" sh "$D" "$1" ) </dev/null >/dev/null 2>&1 3<&- 4<&- &
    n=0; while [ ! -s "$D/pid" ] && [ "$n" -lt 50 ]; do sleep 0.1 2>/dev/null || sleep 1; n=$((n + 1)); done
    [ -s "$D/pid" ] || fail no-timer
  fi
  echo "ok $how $boot $D"
}
boot_by_systemd() { # at the next start of the host, before the server
  d=/etc/systemd/system
  printf '[Unit]\nDescription=Settings of the SSH server that were not proven are put back\nBefore=ssh.service sshd.service ssh.socket sshd.socket dropbear.service dropbear.socket\nDefaultDependencies=no\nRequiresMountsFor=%s\nAfter=local-fs.target\n[Service]\nType=oneshot\nExecStart=/bin/sh %s boot\n[Install]\nWantedBy=multi-user.target\n' "$D" "$D/run" >"$d/$U-boot.service" && chmod 644 "$d/$U-boot.service" || return
  mkdir -p "$d/multi-user.target.wants" && ln -s "../$U-boot.service" "$d/multi-user.target.wants/$U-boot.service"
} 2>/dev/null
disarm() { # name folder: the changes are proven
  root || fail "only root can do this"
  folder "$@"
  # Whoever makes this folder first decides.
  mine "$1" && mkdir "$d/taken" 2>/dev/null || fail put-back
  if [ -s "$d/pid" ]; then
    read -r p <"$d/pid"
    case $(tr '\0' ' ' <"/proc/$p/cmdline") in *"$d"*) kill -KILL "-$p" || kill -KILL "$p" ;; esac 2>/dev/null
  fi
  forget "$U"
  rm -rf "$d"; [ ! -e "$d" ] || fail "refused: $d could not be removed"
  echo "ok"
}
forget() { # unit: nothing of the timer stays behind
  if [ -n "$R" ]; then return; fi
  rm -f "/etc/cron.d/$1" "/etc/systemd/system/$1-boot.service" "/etc/systemd/system/multi-user.target.wants/$1-boot.service"
  if [ -d /run/systemd/system ]; then systemctl stop "$1.timer"; systemctl daemon-reload; fi
} 2>/dev/null
at_once() { # name folder: the changes are not proven
  root || fail "only root can do this"
  folder "$@"
  if mine "$1"; then /bin/sh "$d/run" now >/dev/null 2>&1; fi
  k=0; while mine "$1" && [ "$k" -lt 10 ]; do sleep 1; k=$((k + 1)); done
  if mine "$1"; then fail "refused: it was not put back"; fi
  echo "ok"
}
