#!/bin/sh
# From a change of rule files to a release, step by step. The first step that fails ends it,
# with its own exit code.
#
#   pipeline.sh verify DIRECTORY     check, forecast, and a trial on a rehearsal
#   pipeline.sh propose DIRECTORY    push the change as a branch to be reviewed
#   pipeline.sh publish DIRECTORY    put the change in force
#   pipeline.sh release NAME         move requests in judged stages, until the end
#
# Environment: NIGHTJAR_SERVER and NIGHTJAR_TOKEN say where the service is and who acts.
# BUNDLE is the bundle (main), TRIAL the trial to rehearse (none), MESSAGE what the change
# does, OUT the directory for results (results).
set -u
bundle=${BUNDLE:-main}
out=${OUT:-results}
mkdir -p "$out"

# step NAME FILE COMMAND… runs one step. What programs read goes to FILE, what people read
# to standard error.
step() {
	name=$1 file=$2
	shift 2
	"$@" >"$out/$file"
	code=$?
	if [ $code -eq 0 ]; then
		echo "$name: passed" >&2
	else
		echo "$name: exit code $code, see $out/$file" >&2
		exit $code
	fi
}

verify() {
	step check check.sarif nightjar rules check "$1" --bundle "$bundle" -o sarif
	step forecast forecast.json nightjar forecast "$1" --bundle "$bundle" -o json
	if [ -n "${TRIAL:-}" ]; then
		step trial trial.json nightjar trial run "$TRIAL" --rules "$1" --bundle "$bundle" --junit "$out/trial.xml" -o json
	fi
}

case "${1:-} $#" in
"verify 2") verify "$2" ;;
"propose 2") step propose proposal.json nightjar rules propose "$2" --bundle "$bundle" --message "${MESSAGE:?say what the change does}" -o json ;;
"publish 2") step publish published.json nightjar rules publish "$2" --bundle "$bundle" --message "${MESSAGE:?say what the change does}" -o json ;;
"release 2") step release release.jsonl nightjar release start "$2" --follow -o json ;;
*)
	sed -n '2,14s/^# \{0,1\}//p' "$0" >&2
	exit 2
	;;
esac
