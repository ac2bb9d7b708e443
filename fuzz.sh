#!/bin/bash
# Runs every fuzz target, one after the other, for FOR seconds together, and prints how many inputs each tried a
# second. One that tries hardly any tests nothing, and is an error. What is found is kept in testdata/fuzz.
set -euo pipefail
cd "$(dirname "$0")"
total=${FOR:-3600}
least=20 # inputs a second
targets=$(grep -rlE '^func Fuzz' --include='*_test.go' core | xargs -n1 dirname | sort -u)
list=()
for dir in $targets; do
	while read -r name; do list+=("$dir $name"); done < <(go test -list '^Fuzz' "./$dir" | grep '^Fuzz')
done
each=$((total / ${#list[@]}))
failed=0
for target in "${list[@]}"; do
	read -r dir name <<<"$target"
	log=$(mktemp)
	if ! go test -run '^$' -fuzz "^$name\$" -fuzztime "${each}s" "./$dir" >"$log" 2>&1; then
		cat "$log"
		failed=1
	fi
	execs=$(grep -oE 'execs: [0-9]+' "$log" | tail -1 | grep -oE '[0-9]+' || echo 0)
	found=$(grep -oE 'new interesting: [0-9]+' "$log" | tail -1 | grep -oE '[0-9]+' || echo 0)
	printf '%-18s %-16s %10d inputs in %d s, %6d a second, %d of them new\n' "$dir" "$name" "$execs" "$each" $((execs / each)) "$found"
	if [ $((execs / each)) -lt "$least" ]; then
		echo "$name tries hardly any inputs: it tests nothing"
		failed=1
	fi
	rm -f "$log"
done
exit $failed
