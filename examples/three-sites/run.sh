#!/bin/bash
# Three sites on one machine, as network namespaces on one network between them. The service
# is at harbour; the timetable runs at north-quay and south-quay, at the same private addresses,
# which nobody outside reaches: what comes from other sites goes through the crossing of each.
# A gateway at south-quay takes requests of a fourth machine, street.
# Needs root, iproute2, python3 and a built program (make build).
#   run.sh tour                     all of what follows, with what it does to requests; then down
#   run.sh up | down                start and stop
#   run.sh cut SITE | heal SITE     take the site off the network between the sites, and back
#   run.sh kill SITE | start SITE   kill the instances of the site (-9), and start them again
#   run.sh kill-crossing SITE | start-crossing SITE
#   run.sh rules FAILOVER TARGETS   such as: rules "[same, south-quay]" "{v1: 80, v2: 20}"
#   run.sh nightjar ARGUMENTS       the client, on the machine of the service
#   run.sh load SECONDS             8 callers on street, and what they get
set -euo pipefail
cd "$(dirname "$0")"
nightjar=${NIGHTJAR:-$PWD/../../bin/nightjar}
dir=${DIR:-/tmp/nightjar-three-sites}
declare -A wan=([harbour]=192.0.2.1 [north-quay]=192.0.2.2 [south-quay]=192.0.2.3 [street]=192.0.2.4)
declare -A link=([harbour]=wan1 [north-quay]=wan2 [south-quay]=wan3 [street]=wan4)
private=10.78.0.1
sites="harbour north-quay south-quay street"

on() { local site=$1; shift; ip netns exec "nightjar-$site" "$@"; }
client() { on harbour "$nightjar" --server http://127.0.0.1:7600 "$@"; }
within() { # SECONDS COMMAND: until the command does well
	local end=$((SECONDS + $1)); shift
	until "$@" >/dev/null 2>&1; do
		((SECONDS < end)) || { echo "gave up: $*" >&2; exit 1; }
		sleep 0.1
	done
}
run() { # NAME SITE COMMAND: in the background, until down
	local name=$1 site=$2; shift 2
	setsid ip netns exec "nightjar-$site" "$@" >"$dir/$name.log" 2>&1 </dev/null &
	echo $! >"$dir/pids/$name"
	disown
}
stop() { # NAME SIGNAL
	[ -f "$dir/pids/$1" ] && kill "-$2" "$(cat "$dir/pids/$1")" 2>/dev/null || true
	rm -f "$dir/pids/$1"
}
proxies() { client fleet -o csv | grep -c ",current,"; }
are() { [ "$(proxies)" = "$1" ]; }

workloads() { # the programs themselves, which know nothing of sites
	for v in 1 2; do
		run "app-$1-v$v" "$1" python3 "$dir/app.py" "900$v" "v$v at $1"
	done
	for v in 1 2; do
		within 10 on "$1" bash -c "exec 3<>/dev/tcp/127.0.0.1/900$v"
	done
}
instances() {
	for v in 1 2; do
		run "$1-v$v" "$1" "$nightjar" proxy --join "$dir/token-$1" --service timetable --version "v$v" --site "$1" \
			--app "127.0.0.1:900$v" --inbound "$private:930$v" --name "timetable-v$v-$1" --state "$dir/state-$1"
	done
}
crossing() {
	run "crossing-$1" "$1" "$nightjar" proxy --join "$dir/token-crossing-$1" --crossing "$1" \
		--inbound "${wan[$1]}:7443" --name "crossing-$1" --state "$dir/state-$1"
}
rules() {
	cat >"$dir/rules.yaml" <<RULES
sites:
  harbour: {}
  north-quay: {crossing: "${wan[north-quay]}:7443"}
  south-quay: {crossing: "${wan[south-quay]}:7443"}
services:
  timetable:
    versions: [v1, v2]
    failover: {order: $1, below: 50%}
    routes: [{name: all, send: $2}]
gateways:
  pier: {listen: "${wan[south-quay]}:8080", hosts: ["*"], routes: [{name: all, send: timetable}]}
RULES
	client rules publish "$dir/rules.yaml" -m "${3:-failover $1, send $2}" | sed -n 1p
}

down() {
	[ -d "$dir/pids" ] && for f in "$dir"/pids/*; do stop "$(basename "$f")" KILL; done
	for s in $sites between; do
		ip netns pids "nightjar-$s" 2>/dev/null | xargs -r kill -9 2>/dev/null || true
		ip netns del "nightjar-$s" 2>/dev/null || true
	done
	rm -rf "$dir"
}

up() {
	down
	mkdir -p "$dir/pids"
	cat >"$dir/app.py" <<'APP'
import http.server, sys, time
class Server(http.server.ThreadingHTTPServer):
    request_queue_size = 512
class Handler(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    wbufsize = -1
    def do_GET(self):
        time.sleep(0.005)
        text = (sys.argv[2] + "\n").encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(text)))
        self.end_headers()
        self.wfile.write(text)
    def log_message(self, *of): pass
Server(("127.0.0.1", int(sys.argv[1])), Handler).serve_forever()
APP
	ip netns add nightjar-between
	ip -n nightjar-between link add switch type bridge
	ip -n nightjar-between link set switch up
	for s in $sites; do
		ip netns add "nightjar-$s"
		ip link add "${link[$s]}" netns nightjar-between type veth peer name wan netns "nightjar-$s"
		ip -n nightjar-between link set "${link[$s]}" master switch up
		ip -n "nightjar-$s" addr add "${wan[$s]}/24" dev wan
		ip -n "nightjar-$s" link set wan up
		ip -n "nightjar-$s" link set lo up
		ip -n "nightjar-$s" addr add "$private/24" dev lo
	done
	run serve harbour "$nightjar" serve --data "$dir/data" --mesh-addr "${wan[harbour]}:7601"
	within 20 client fleet
	rules "[same, north-quay]" "{v1: 80, v2: 20}" "three sites" >/dev/null 2>&1
	for s in north-quay south-quay; do
		# The address is private to the site, and not the one that the proxy connects from.
		client join-token create --service timetable --site "$s" --uses 2 --address "$private" >"$dir/token-$s"
		client join-token create --crossing "$s" >"$dir/token-crossing-$s"
		workloads "$s"
		crossing "$s"
		instances "$s"
	done
	within 20 are 7
	client join-token create --gateway pier --site south-quay >"$dir/token-pier"
	run pier south-quay "$nightjar" proxy --join "$dir/token-pier" --gateway pier --site south-quay --name pier --state "$dir/state-pier"
	within 20 are 8
	within 10 on street curl -sf "http://${wan[south-quay]}:8080/"
}

# What 8 callers get in so many seconds, and who answered.
load() {
	on street python3 - "$1" "${wan[south-quay]}:8080" <<'LOAD'
import collections, http.client, sys, threading, time
end, host = time.time() + float(sys.argv[1]), sys.argv[2]
seen, slowest, lock = collections.Counter(), [0.0], threading.Lock()
def caller():
    while time.time() < end:
        try:
            c = http.client.HTTPConnection(host, timeout=20)
            while time.time() < end:
                begun = time.time()
                c.request("GET", "/")
                r = c.getresponse()
                text = r.read().decode().strip()
                with lock:
                    seen[text if r.status == 200 else f"failed: {r.status} {text.split()[1] if text else ''}"] += 1
                    slowest[0] = max(slowest[0], time.time() - begun)
                time.sleep(0.02)
        except Exception as e:
            with lock: seen[f"failed: {e}"] += 1
callers = [threading.Thread(target=caller) for _ in range(8)]
for c in callers: c.start()
for c in callers: c.join()
all_ = sum(seen.values())
for what, n in sorted(seen.items()): print(f"  {n:6} {n / all_:6.1%}  {what}")
print(f"  the slowest request took {slowest[0]:.2f} s")
LOAD
}
during() { # SECONDS COMMAND: requests meanwhile, and what they got
	load "$1" >"$dir/load" & local loading=$!
	shift
	sleep 2
	"$@"
	wait $loading
	cat "$dir/load"
}
say() { printf '\n== %s\n' "$*"; }

tour() {
	trap down EXIT INT TERM
	up
	client sites
	say "80/20 inside south-quay"
	load 3
	say "50/50 across two sites, by weight"
	rules "[same, north-quay]" "{v1@south-quay: 50, v1@north-quay: 50}"
	load 3
	client sites --window 3
	say "north-quay first: its instances are killed after 2 s, and started again after 4"
	rules "[north-quay, south-quay]" "{v1: 100}"
	sleep 1
	during 9 eval 'instances_killed north-quay; sleep 2; instances north-quay'
	within 20 are 8
	sleep 6
	say "the same with the crossing of north-quay"
	during 9 eval 'stop crossing-north-quay KILL; sleep 2; crossing north-quay'
	within 20 are 8
	sleep 6
	say "the network to north-quay is cut after 2 s, and healed after 6"
	during 12 eval 'cut north-quay; sleep 4; heal north-quay'
	within 20 are 8
	say "the site of the service is cut off: everything goes on"
	during 8 cut harbour
	heal harbour
	within 30 are 8
	client fleet
}
instances_killed() {
	stop "$1-v1" KILL
	stop "$1-v2" KILL
}
cut() { ip -n nightjar-between link set "${link[$1]}" nomaster; }
heal() { ip -n nightjar-between link set "${link[$1]}" master switch; }

case ${1:-} in
tour | up | down) "$1" ;;
cut | heal) "$1" "$2" ;;
kill) instances_killed "$2" ;;
start) instances "$2" ;;
kill-crossing) stop "crossing-$2" KILL ;;
start-crossing) crossing "$2" ;;
rules) rules "$2" "$3" ;;
nightjar) shift; client "$@" ;;
load) load "$2" ;;
*) sed -n '2,/^set/p' "$0" | sed '$d; s/^# \{0,1\}//'; exit 2 ;;
esac
