# Two computers that never meet, and a relay. Sourced by script/demo, which ends what is started here ($pids, $work).

# display NAME: starts a screen without a monitor; sets $display.
display() {
  mkfifo "$work/$1-display"
  Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp -noreset 3>"$work/$1-display" >/dev/null 2>&1 &
  pids=("$!" "${pids[@]}")
  local number
  read -r number <"$work/$1-display"
  display=":$number"
}

# on NAME DISPLAY: starts that computer's service; sets $service.
on() {
  rm -f "$work/$1-ready"
  mkfifo "$work/$1-ready"
  DISPLAY=$2 yadorid --home "$work/$1" --clipboard x11 >"$work/$1-ready" 2>>"$work/$1-log" &
  service=$!
  pids=("$service" "${pids[@]}")
  local ready
  read -r ready <"$work/$1-ready" || { cat "$work/$1-log" >&2; exit 1; }
}

# off PID: ends a service, and waits until it has.
off() {
  kill "$1"
  wait "$1" || true
  local left=() pid
  for pid in "${pids[@]}"; do [ "$pid" = "$1" ] || left+=("$pid"); done
  pids=("${left[@]}")
}

at() { local name=$1; shift; yadori --home "$work/$name" "$@"; }

# until_said WORDS COMMAND…: waits until a command says these words.
until_said() {
  local words=$1 tries
  shift
  for tries in $(seq 300); do
    "$@" 2>/dev/null | grep -q -- "$words" && return
    sleep 0.1
  done
  echo "demo: “$words” was not said by: $*" >&2
  exit 1
}

shown() { printf '\n%s$ yadori %s\n' "$1" "${*:2}"; at "$@"; }

mkfifo "$work/relay-ready"
yadori-relay --home "$work/relay" serve --listen 127.0.0.1:0 --owners 127.0.0.1:0 >"$work/relay-ready" 2>"$work/relay-log" &
pids=("$!" "${pids[@]}")
read -r _ _ relay <"$work/relay-ready" || { cat "$work/relay-log" >&2; exit 1; }
echo "· a relay runs at $relay" >&2

display workshop; workshop_display=$display
display van; van_display=$display
for name in workshop van; do
  mkdir "$work/$name"
  printf '%s\n' "device = \"$name\"" '[api]' 'listen = "127.0.0.1:0"' '[link]' 'listen = "127.0.0.1:0"' >"$work/$name/config.toml"
done
on workshop "$workshop_display"; workshop=$service
on van "$van_display"; van=$service
invitation=$(at workshop device invite --json)
at van device join "$(sed -n 's/^ *"\([0-9.:]*\)"$/\1/p' <<<"$invitation")" "$(sed -n 's/^ *"code": "\(.*\)",$/\1/p' <<<"$invitation")" >/dev/null
echo "· two computers are linked: workshop and van" >&2

printf '\nThe relay is set on one of them; its owner has made a token:\n'
printf '\nrelay$ yadori-relay token new --address https://%s --note "for the van"\n' "$relay"
line=$(yadori-relay --home "$work/relay" token new --address "https://$relay" --note "for the van")
printf '%s\n' "$line"
printf '\nworkshop$ yadori relay set https://…\n'
at workshop relay set "$line"
until_said " answers" at van relay
off "$workshop"; off "$van"

printf '\nFrom now on neither reaches the other. The van is off; something is copied in the workshop:\n'
for name in workshop van; do echo 'direct = false' >>"$work/$name/config.toml"; done
on workshop "$workshop_display"; workshop=$service
printf '\nworkshop$ echo "Screws for the lantern: M4 × 12" | xclip -selection clipboard\n'
printf 'Screws for the lantern: M4 × 12' | DISPLAY=$workshop_display xclip -selection clipboard >/dev/null 2>&1
until_said "Screws for the lantern" at workshop list
until_said '"behind": 0' at workshop relay --json
shown workshop relay
off "$workshop"

printf '\nNow the workshop is off, and the van is on:\n'
on van "$van_display"; van=$service
until_said "Screws for the lantern" at van list
shown van list -n 1
shown van recall 1
printf '\nvan$ xclip -selection clipboard -o\n%s\n' "$(DISPLAY=$van_display xclip -selection clipboard -o)"
printf '\nAnd the relay has only seen sealed envelopes. Its whole disk, searched for the words:\n'
printf '\nrelay$ grep -r "Screws for the lantern" %s\n' "$work/relay"
grep -r "Screws for the lantern" "$work/relay" && exit 1
printf '\nrelay$ yadori-relay admin list\n'
yadori-relay --home "$work/relay" admin list

if [ -z "$once" ]; then
  cat <<TEXT

  Try, in another terminal:
    export PATH="$bin:\$PATH"
    yadori --home $work/van list
    yadori --home $work/van relay
    yadori-relay --home $work/relay admin list

  Ctrl-C stops everything.

TEXT
  wait "$van"
fi
