#!/bin/bash
# Two hosts on one machine, as network namespaces with a cable between them: the
# service and a gateway on north, a workload of two versions on south. Needs root,
# iproute2, python3 and bin/nightjar (make build). Ends with Ctrl-C, or by itself
# after the tour with: run.sh --tour
set -euo pipefail
cd "$(dirname "$0")/../.."
nightjar=$PWD/bin/nightjar
dir=$(mktemp -d)
north=10.77.0.1 south=10.77.0.2

clean() {
	trap - EXIT
	kill $(jobs -p) 2>/dev/null || true
	wait 2>/dev/null || true
	ip netns del nightjar-north 2>/dev/null || true
	ip netns del nightjar-south 2>/dev/null || true
	rm -rf "$dir"
}
trap clean EXIT INT TERM

ip netns add nightjar-north
ip netns add nightjar-south
ip link add north0 netns nightjar-north type veth peer name south0 netns nightjar-south
ip -n nightjar-north addr add $north/24 dev north0
ip -n nightjar-south addr add $south/24 dev south0
for host in north south; do
	ip -n nightjar-$host link set lo up
	ip -n nightjar-$host link set ${host}0 up
done
on() { local host=$1; shift; ip netns exec nightjar-$host "$@"; }

mkdir "$dir/v1" "$dir/v2"
echo "ferries at eight and ten" >"$dir/v1/index.html"
echo "ferries at eight, ten and twelve" >"$dir/v2/index.html"

on north "$nightjar" serve --data "$dir/data" --mesh-addr $north:7601 >"$dir/serve.log" 2>&1 &
for port in 9001 9002; do
	on south python3 -m http.server $port --bind 127.0.0.1 --directory "$dir/v$((port - 9000))" >/dev/null 2>&1 &
done
for port in 9001 9002; do
	until on south bash -c "exec 3<>/dev/tcp/127.0.0.1/$port" 2>/dev/null; do sleep 0.1; done
done
# A token with which the two proxies of south join; after that they prove themselves by their certificates.
until on north "$nightjar" join-token create --service timetable --uses 2 >"$dir/token" 2>/dev/null; do sleep 0.1; done
for version in 1 2; do
	on south "$nightjar" proxy --join "$dir/token" --service timetable --version v$version \
		--app 127.0.0.1:900$version --inbound $south:930$version --state "$dir/state" --name timetable-v$version >"$dir/v$version.log" 2>&1 &
done
cat >"$dir/rules.yaml" <<'RULES'
services:
  timetable: {versions: [v1, v2], routes: [{name: all, send: {v1: 80, v2: 20}}]}
gateways:
  pier: {listen: "10.77.0.1:8080", hosts: ["*"], routes: [{name: all, send: timetable}]}
RULES
until on north "$nightjar" rules publish "$dir/rules.yaml" -m "two hosts" >/dev/null 2>&1; do sleep 0.1; done
on north "$nightjar" proxy --gateway pier --state "$dir/state" >"$dir/pier.log" 2>&1 &
until grep -q ready "$dir/v1.log" "$dir/v2.log" && on north "$nightjar" fleet | grep -q "in all 4 proxies"; do sleep 0.1; done

echo "\$ nightjar fleet -o wide          (on north)"
on north "$nightjar" fleet -o wide
echo
echo "\$ nightjar call http://$north:8080/ -n 50 -c 2   (on north; the workload is on south)"
on north "$nightjar" call http://$north:8080/ -n 50 -c 2
echo
echo "The cable is cut for 22 s: the service loses sight of both instances of south, and doubts that they are gone."
ip -n nightjar-south link set south0 down
sleep 22
on north "$nightjar" fleet
ip -n nightjar-south link set south0 up
until on north "$nightjar" fleet | grep -q "in all 4 proxies"; do sleep 0.2; done
echo
echo "Back again:"
on north "$nightjar" call http://$north:8080/ -n 50 -c 2
if [ "${1:-}" != --tour ]; then
	echo "Both hosts go on until Ctrl-C: ip netns exec nightjar-north $nightjar services"
	wait
fi
