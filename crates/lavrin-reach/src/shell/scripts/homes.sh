# The usual files of every home in one go, each with the rights of its account. What needs nobody's rights is kept back in
# L and told with few processes.
L=; LN=0
later() {
  case " $L " in *" $1 "*) return ;; esac
  case $1 in *[!A-Za-z0-9._/@+-]*) node "$1"; return ;; esac
  L="$L $1"; LN=$((LN + 1)); if [ "$LN" -ge 200 ]; then told; fi
}
chain() { d=$1; while [ -n "$d" ] && [ "$d" != / ]; do later "$d"; d=${d%/*}; done; }
told() { if [ -n "$L" ]; then nodes $L; fi; L=; LN=0; }
SH=; CH=
look_at() { # name uid gid home quoted-home shell
  # Most homes are beside the last one.
  if [ "$CH" != "${4%/*}" ]; then CH=${4%/*}; chain "$CH"; fi
  if [ -x "$R$4" ] && [ ! -e "$R$4/.ssh" ] && [ ! -L "$R$4/.ssh" ]; then x=no
  elif [ ! -e "$R$4" ] && [ ! -L "$R$4" ] && [ -x "$R${4%/*}/" ]; then x=no
  else x=yes; fi
  case " $SH " in *" $6 "*) s= ;; *) s=$6 ;; esac
  if [ "$x" = yes ] && [ -n "$s" ]; then # whoever has keys needs a shell that is there
    SH="$SH $s"; chain "$s"
    y=$(cd -P -- "$R${s%/*}" 2>/dev/null && pwd -P) && chain "${y#"$R"}/${s##*/}"
    y=$(readlink -f -- "$R$s" 2>/dev/null) && chain "${y#"$R"}"
  fi
  if [ "$x" = yes ]; then ask_as "$1" "$2" "$3" "usual $5"
  else later "$4"; b "n $4/.ssh"; echo 'No such file or directory'; e 1; fi
}
