#!/bin/sh
# nightly.sh JOBFILE JOB DIR
#
# Loads a job file, runs one job of it, and keeps the record of the run in DIR. Prints what
# failed. Ends with 0 if all is at the target, 3 if the run waits for approval, else 1.
set -u
jobfile=$1 job=$2 records=$3

# A job file is read from standard input too, so it can come out of a template.
heron job load - <"$jobfile" || exit 1

# Nothing is started that cannot be done: blockers have an address, a cause and a remedy.
plan=$(heron job plan "$job" --json) || exit 1
if [ "$(printf '%s' "$plan" | jq '.blockers | length')" -gt 0 ]; then
	printf '%s' "$plan" | jq -r '.blockers[] | "\(.address): \(.why) \(.remedy)"' >&2
	exit 1
fi

# Waits until the run has ended, or is held.
run=$(heron job start "$job" --detach --json | jq -r .run) && [ -n "$run" ] || exit 1
heron run follow "$run" >"$records/$run.log"
code=$?

heron run report "$run" --out "$records/$run.html" || exit 1
case $code in
0) ;;
3) heron run show "$run" --json | jq -r '"held: \(.why). \(.remedy)"' >&2 ;;
*) heron run items "$run" --state failed --json | jq -r '"\(.address): \(.cause). \(.remedy)"' >&2 ;;
esac
exit $code
