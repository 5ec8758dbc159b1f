#!/usr/bin/env bash
# Makes the pictures in docs/screenshots from the demo's world: `screenshots.sh SHOT [NAME…]`, where SHOT is a program that takes
# OUT.png COMMAND SECONDS and pictures a terminal of 1280x800 in which the command runs. Without names all of them are made.
set -euo pipefail
cd "$(dirname "$0")/.."
shot=$(realpath "$1"); shift
source=$PWD
out=$PWD/docs/screenshots
profile=${LAVRIN_PROFILE:-debug}
cargo build -q $([ "$profile" = release ] && echo --release) -p lavrin
cargo build -q -p lavrin-standin --example islands
target=${CARGO_TARGET_DIR:-$PWD/target}
work=$(mktemp -d /tmp/lavrin-pictures-XXXXXX)
trap 'exec 9>&- 2>/dev/null; wait 2>/dev/null; rm -rf "$work"' EXIT
export HOME=$work/home PATH=$target/$profile:$PATH TERM=xterm-256color
unset SSH_AUTH_SOCK
mkdir -m 700 -p "$HOME/.ssh" "$work/keys" "$HOME/incoming"
q() { "$@" >/dev/null 2>&1 || true; }
cd "$HOME"

comment() { case $1 in office) echo 'the office' ;; old) echo 'sten, the old terminal' ;; *) echo "$1, $2" ;; esac; }
for pair in office:harbour edda:'harbour office' sten:kvarnholm runa:'inner mole'; do
  name=${pair%%:*}
  q lavrin key generate --name "$name" --passphrase none --comment "$(comment "$name" "${pair#*:}")"
done
openssl genrsa -traditional -out "$work/old.pem" 1024 2>/dev/null
lavrin key convert "$work/old.pem" --to line --comment 'sten, the old terminal' >"$HOME/.ssh/old.pub" 2>/dev/null
cp "$HOME"/.ssh/*.pub "$work/keys"

# The hosts.
mkfifo "$work/in"
"$target/debug/examples/islands" "$work/keys" <"$work/in" >"$work/hosts" &
exec 9>"$work/in"
for _ in $(seq 100); do grep -q ready "$work/hosts" && break; sleep 0.1; done
grep -v ready "$work/hosts" >"$work/list"
port() { awk -v n="$1" '$1 == n { print $2 }' "$work/list"; }
print() { awk -v n="$1" '$1 == n { print $3 }' "$work/list"; }
printf 'Host harbour-office\n  HostName 127.0.0.1\n  Port %s\n  IdentityFile ~/.ssh/office\n' "$(port harbour-office)" >"$HOME/.ssh/config"
chmod 600 "$HOME/.ssh/config"
q lavrin audit harbour-office --login root --expect-host-key "$(print harbour-office)"

# The register.
q lavrin register begin halvmark --name 'Halvmark lights'
cd halvmark
sed -i 's/^# \[defaults\]/[defaults]/; s|^# identity = .*|identity = "~/.ssh/office"|' lavrin.toml
for host in lantern skerry kvarnholm; do
  q lavrin host add "$host" --address 127.0.0.1 --port "$(port "$host")" --tag lights --account root --account keeper
  q lavrin host trust "$host" --expect-host-key "$(print "$host")"
done
q lavrin host add harbour-office --address 127.0.0.1 --port "$(port harbour-office)" --tag office --site 'Inner mole' --account root --account edda --account sten
q lavrin host trust harbour-office --expect-host-key "$(print harbour-office)"
q lavrin host add grindholm --address 127.0.0.1 --port "$(port grindholm)" --reach netconf --tag lights --account root --account keeper
q lavrin host add buoy-4 --address 127.0.0.1 --port "$(port buoy-4)" --reach publickey-subsystem --tag buoys --login keeper --account keeper
q lavrin host add tide-archive --address 127.0.0.1 --port "$(port tide-archive)" --reach sftp --tag buoys --login keeper --account keeper
q lavrin host add horn-2 --address 127.0.0.1 --port "$(port horn-2)" --reach dialogue --profile fog-signal --tag buoys --login keeper --account keeper
mkdir profiles; cp "$source/crates/lavrin-standin/src/console.toml" profiles/fog-signal.toml
for host in grindholm buoy-4 tide-archive horn-2; do q lavrin host trust "$host" --expect-host-key "$(print "$host")"; done
q lavrin person add office --name 'The office' --key ~/.ssh/office.pub
q lavrin person add edda --name 'Edda Holm' --team office --key ~/.ssh/edda.pub
q lavrin person add sten --name 'Sten Åkre' --team lights --key ~/.ssh/sten.pub
q lavrin person add runa --name 'Runa Fjell' --team lights --key ~/.ssh/runa.pub
q lavrin grant office root --host '*' --reason 'looks after the servers'
q lavrin grant lights keeper --team --tag lights --reason 'looks after the lamps'
q lavrin grant edda edda --host harbour-office --until 2027-06-30
q lavrin grant edda keeper --host skerry --until 2027-01-31
q lavrin grant office keeper --tag buoys --reason 'looks after the buoys'
q lavrin grant sten keeper --tag buoys --reason 'changes their batteries'
q lavrin grant sten sten --host harbour-office
cp -a "$HOME/halvmark" "$work/before"

wanted=("$@")
picture() { # NAME SECONDS FOLDER COMMAND; instead of seconds: how the page is looked at that the command writes with --out
  if [ ${#wanted[@]} -gt 0 ] && [[ " ${wanted[*]} " != *" $1 "* ]]; then return; fi
  cd "$3"
  case $2 in
    light | dark | phone)
      q bash -c "$4"; local page=${4#*--out }
      node "$source/scripts/page-shot.mjs" "$("$source/scripts/playwright.sh")" "$PWD/${page%% *}" "$out/$1.png" "$2" ;;
    *) "$shot" "$out/$1.png" "${before:-}$4" "$2" >/dev/null ;;
  esac
  echo "$1"
}

cd "$HOME"
python3 - "$HOME/incoming" <<'P'
import base64, struct, subprocess, sys
def prime(bits): return int(subprocess.run(["openssl", "prime", "-generate", "-bits", str(bits)], capture_output=True, text=True, check=True).stdout)
def word(data): return struct.pack(">I", len(data)) + data
def number(n): return word(n.to_bytes(n.bit_length() // 8 + 1, "big"))
def public(name, n, comment):
    blob = word(b"ssh-rsa") + number(65537) + number(n)
    open(f"{sys.argv[1]}/{name}.pub", "w").write(f"ssh-rsa {base64.b64encode(blob).decode()} {comment}\n")
p = prime(1024)
public("buoy-7", p * prime(1024), "buoy-7"); public("buoy-9", p * prime(1024), "buoy-9")
public("crane", prime(384) * prime(384), "crane controller")
q = prime(1024); r = q + 2**519
while subprocess.run(["openssl", "prime", str(r)], capture_output=True, text=True).stdout.find("is prime") < 0: r += 2
public("fog-signal", q * r, "fog signal")
P
cp ~/.ssh/runa.pub ~/.ssh/sten.pub ~/incoming; cp ~/.ssh/edda ~/incoming/lamp-timer
{ echo 'Hello, here is my key:'; echo; fold -w 60 ~/.ssh/edda.pub | sed 's/^/> /'; } >~/incoming/maren-mail.txt
sed 's/AAAA/A=AA/' ~/.ssh/runa.pub >~/incoming/gull.pub
picture key-inspect 4 "$HOME" 'lavrin key inspect ~/incoming'
picture install 5 "$HOME" 'lavrin install ~/.ssh/edda.pub edda@harbour-office --login root --yes'
q lavrin install ~/.ssh/edda.pub edda@harbour-office --login root --yes
picture mend 5 "$HOME" 'lavrin mend --all @harbour-office --login root --preview'

# A tree with the usual mistakes.
tree=$HOME/tree; mkdir -p "$tree"/etc/ssh "$tree"/root; : >"$tree/etc/passwd"; uid=3000
accounts='edda sten runa gunna liv maren odd tuva ivar siri'
for a in $accounts; do
  uid=$((uid + 1)); echo "$a:x:$uid:$uid::/home/$a:/bin/sh" >>"$tree/etc/passwd"
  q lavrin key generate --name "$a" --folder "$HOME/pairs" --passphrase none --comment "$a, of the islands"
  mkdir -p "$tree/home/$a/.ssh"; cp "$HOME/pairs/$a.pub" "$tree/home/$a/.ssh/authorized_keys"
  chmod 700 "$tree/home/$a/.ssh"; chmod 600 "$tree/home/$a/.ssh/authorized_keys"; chmod 755 "$tree/home" "$tree/home/$a"
done
printf 'ID=debian\nVERSION_ID="12"\n' >"$tree/etc/os-release"
printf 'DenyUsers ivar\nAuthorizedKeysFile .ssh/authorized_keys\nMatch User siri\n  PubkeyAuthentication no\n' >"$tree/etc/ssh/sshd_config"
keys() { echo "$tree/home/$1/.ssh/authorized_keys"; }
chmod 777 "$tree/home/edda/.ssh"
cp "$HOME/pairs/sten.pub" "$(keys sten)"; cat "$HOME/pairs/runa.pub" >>"$(keys sten)"; cat "$HOME/pairs/liv.pub" >"$(keys runa)"
fold -w 60 "$HOME/pairs/gunna.pub" >"$(keys gunna)"
{ tr -d '\n' <"$HOME/pairs/tuva.pub"; cat "$HOME/pairs/liv.pub"; } >"$(keys liv)"
{ printf 'from="192.0.2.0/28" '; cat "$HOME/pairs/maren.pub"; } >"$(keys maren)"
{ printf 'expiry-time="20260901" '; cat "$HOME/pairs/odd.pub"; } >"$(keys odd)"
{ printf 'no-ptty '; cat "$HOME/pairs/tuva.pub"; } >"$(keys tuva)"
while IFS=: read -r a _ u _; do chown -R "$u:$u" "$tree/home/$a" 2>/dev/null || true; done <"$tree/etc/passwd"
chown root:root "$(keys sten)"
picture why-mistakes 6 "$HOME" 'for a in edda sten runa gunna liv; do lavrin why $a --tree tree --key pairs/$a.pub; done'

register=$HOME/halvmark
mkdir "$work/faulty"; cp -a "$register/." "$work/faulty"
printf '\n[[grant]]\nperson = "eda"\naccount = "keeper"\nhosts = ["lantren"]\nuntil = 2026-01-31\n' >>"$work/faulty/access.toml"
sed -i 's/^team = "lights"/teem = "lights"/' "$work/faulty/people/sten.toml"
mv "$work/faulty" "$HOME/faulty"
picture check 4 "$HOME/faulty" 'lavrin register check'
cd "$register"; q lavrin survey --host-limit 20
q lavrin survey
picture audit-register 5 "$register" 'lavrin audit'
picture compare 4 "$register" 'lavrin compare'
picture matrix 4 "$register" 'lavrin matrix lights'
picture paths 4 "$register" 'lavrin paths lantern'
picture report light "$register" 'lavrin report --out access.html'
picture report-phone phone "$register" 'lavrin report --out lantern.html --host lantern --at today'
cp "$register/access.html" "$source/docs/sample-report.html" 2>/dev/null && chmod 644 "$source/docs/sample-report.html" || true
picture enforce 9 "$register" "lavrin enforce lights buoys --yes --reason 'the register is in force'"
cd "$register"; q lavrin enforce --yes
q lavrin key generate --name edda-2 --passphrase none --comment 'edda, her new machine'
picture shortcuts 3 "$register" 'lavrin shortcuts edda'
picture rotate 12 "$register" 'lavrin rotate edda --from-file ~/.ssh/edda-2.pub --first 1 --yes; lavrin rotate --status'
q lavrin kept seal --administrators office,runa --yes
for account in root@lantern keeper@skerry root@kvarnholm; do q lavrin kept make "$account" --yes; done
q lavrin kept hand-out keeper@skerry --to "$HOME/lamp" --person runa --reason 'the lamp is out'
picture offboard 8 "$register" 'lavrin offboard runa --preview'
picture statement 16 "$register" 'lavrin offboard runa --statement runa-left.txt --yes >/dev/null 2>&1; cat runa-left.txt; lavrin history --verify runa-left.txt'
cd "$register"; q lavrin rotate edda --from-file ~/.ssh/edda-2.pub --yes; q lavrin offboard runa --yes
q lavrin kept seal root@kvarnholm --administrators office,edda --yes; q lavrin rotate --account root@lantern --yes
cd "$register"; q lavrin audit
picture alone 3 "$register" 'lavrin'
# A real server of this machine, whose settings lie in a folder that is root's alone, as on every host.
lantern=/run/lantern; rm -rf "$lantern"; mkdir -m 755 "$lantern"
cp ~/.ssh/office.pub "$lantern/keys"
q lavrin key generate --name lantern --folder "$lantern" --passphrase none
free=$(python3 -c 'import socket; s = socket.socket(); s.bind(("127.0.0.1", 0)); print(s.getsockname()[1])')
printf 'Port %s\nListenAddress 127.0.0.1\nHostKey %s/lantern\nPidFile none\nUsePAM no\nPasswordAuthentication yes\nMatch User root\n  AuthorizedKeysFile %s/keys\n' \
  "$free" "$lantern" "$lantern" >"$lantern/sshd_config"
mkdir -p /run/sshd
/usr/sbin/sshd -D -f "$lantern/sshd_config" 9>&- & server=$!
trap 'kill "$server" 2>/dev/null; rm -rf "$lantern"; exec 9>&- 2>/dev/null; wait 2>/dev/null; rm -rf "$work"' EXIT
cd "$HOME"; q lavrin register begin beacon --name 'Halvmark lights'; cd beacon
sed -i 's/^# \[defaults\]/[defaults]/; s|^# identity = .*|identity = "~/.ssh/office"|' lavrin.toml
q lavrin host add lantern --address 127.0.0.1 --port "$free" --tag lights --account root
q lavrin host trust lantern --expect-host-key "$(lavrin key inspect "$lantern/lantern.pub" --format json | grep -o 'SHA256:[^"]*' | head -n 1)"
picture keys-only 9 "$HOME/beacon" 'lavrin keys-only lights --yes'
# The terminal is a little taller than the picture: only its upper rows are written to.
before='printf "\033[1;41r"; '
picture demo 25 "$HOME" 'lavrin demo'
before=
