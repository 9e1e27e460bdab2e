#!/bin/bash
# From a legacy machine outside the mesh to instances inside, first by hand and then by a
# release, with the effect of each step. It runs beside "nightjar demo", and leaves the
# harbour office where it was, but for its new instances, until the release has moved it.
#   NIGHTJAR  the program (nightjar)        NIGHTJAR_SERVER  the service
#   APP       HOST:PORT of the new program; left out: the legacy one, behind a proxy
#   PAUSE     seconds of requests before and after each step (15)
set -euo pipefail
nightjar=${NIGHTJAR:-nightjar}
pause=${PAUSE:-15}
dir=$(mktemp -d)
clean() {
	trap - EXIT
	kill $(jobs -p) 2>/dev/null || true
	wait 2>/dev/null || true
	rm -rf "$dir"
}
trap clean EXIT INT TERM
say() { printf '\n== %s\n' "$*"; }

say "the harbour office gets a second version, inside the mesh, without requests"
"$nightjar" rules show >"$dir/now.yaml"
app=${APP:-$(sed -n 's|.*at: "http://\([^"]*\)", version: legacy.*|\1|p' "$dir/now.yaml")}
sed -e 's/versions: \[legacy\]/versions: [legacy, v1]/' \
	-e '/version: legacy}/a\    routes:\n      - {name: all, send: {legacy: 100, v1: 0}}' \
	-e '/^releases:/a\  office-to-mesh:\n    service: harbour-office\n    from: legacy\n    to: v1\n    stages: [10%, 50%, 100%]\n    each: 6s\n    judge: {success: ">= 80%", success-against-from: ">= -10%", least: 20, every: 2s}\n    load: {to: harbour-office, path: /register, rate: 40/s}\n    on-success: make-default' \
	"$dir/now.yaml" >"$dir/rules.yaml"
"$nightjar" rules publish "$dir/rules.yaml" -m "harbour-office: v1 beside legacy" | sed -n 1p
for i in a b; do
	"$nightjar" proxy --service harbour-office --version v1 --name "harbour-office-v1-$i" --app "$app" --state "$dir" >"$dir/$i.log" 2>&1 &
done
for _ in $(seq 100); do
	[ "$("$nightjar" fleet | grep -c 'harbour-office-v1-. .*current' || true)" = 2 ] && break
	sleep 0.2
done
sleep "$pause"

for step in "90 10" "50 50" "0 100"; do
	set -- $step
	say "by hand: legacy $1%, v1 $2%"
	"$nightjar" split harbour-office "legacy=$1" "v1=$2" | sed -n 1p
	sleep "$pause"
	"$nightjar" effect --settle 1s --window "${pause}s" --by version --of harbour-office
done

say "back, at once"
"$nightjar" split harbour-office legacy=100 v1=0 | sed -n 1p

say "a release meets a new program that fails: it goes back by itself, and says why"
"$nightjar" drill start --service harbour-office --version v1 --fail 60% --for 5m | tee "$dir/drill"
"$nightjar" release start office-to-mesh --follow || echo "exit code $?"
"$nightjar" drill stop "$(cut -d' ' -f1 "$dir/drill")"

say "the same release, with a program that is well"
"$nightjar" release start office-to-mesh --follow
"$nightjar" services harbour-office
