#!/usr/bin/env bash
# How time and memory grow with rows, with groups, and with threads: two tables in Markdown, and their curves.
#
# usage: benches/growth.sh TOOL [FOLDER]     TOOL is a release build of churn, FOLDER where the data go
# ROWS (millions, "2 20 100" unless told) needs 60 bytes of disk and up to 150 of memory a row; the curves go to FOLDER/rows.svg and
# FOLDER/groups.svg. RUNS says how often each is run; the median counts. Needs GNU time.
set -euo pipefail
tool=$(realpath "$1")
folder=${2:-$(mktemp -d)}
sizes=${ROWS:-2 20 100}
runs=${RUNS:-3}
mkdir -p "$folder"
cd "$folder"

# A name and the steps over all deliveries, separated by |.
questions=(
    "filter and total|filter temp_c > 6.0 and grade <> 'A'|total: n = count(), s = sum(litres)"
    "group by farm|group by farm: n = count(), s = sum(litres), m = mean(fat)"
    "farms joined|join 'farms.csv' on farm|group by district: s = sum(litres), n = count()"
    "group by farm and day|group by farm, collected_on: s = sum(litres)|total: n = count(), s = sum(s)"
    "group by tanker and number|group by tanker, k = cast(delivery_id as int) mod 5000: s = sum(litres)|total: n = count()"
    "moving mean|window by farm order by collected_on, delivery_id|  m = mean(litres) over last 7 rows|total: s = sum(m)"
    "sort|sort litres desc, fat|first 1000 per grade"
)

# Seconds and peak of the recipe by so many threads: the median of the runs. Prints "seconds,megabytes".
measured() {
    for _ in $(seq "$runs"); do
        command time -f '%e %M' -o time.txt "$tool" run recipe.churn --threads "$1" --quiet > answer.txt
        cat time.txt
    done | sort -n | sed -n "$(((runs + 1) / 2))p" | awk '{ printf "%s,%.0f", $1, $2 / 1024 }'
}

# Adds a line to a table for one thread and one for two, behind these cells.
by_threads() {
    for threads in 1 2; do
        echo "$2,$threads,$(measured "$threads")" | tee -a "$1" >&2
    done
}

recipe() {
    printf "read '%s/deliveries-*.csv' with (types = (collected_on date), bad_cells = null)\n%s\n" "$1" "$(tr '|' '\n' <<< "$2")" > recipe.churn
}

echo 'question,rows,threads,seconds,megabytes' > rows.csv
echo 'groups,threads,seconds,megabytes' > groups.csv
for millions in $sizes; do
    data="rows-$millions"
    [ -e "$data" ] || "$tool" demo "$data" --rows "${millions}000000" --no-tour > /dev/null
    cp "$data/farms.csv" .
    for question in "${questions[@]}"; do
        recipe "$data" "${question#*|}"
        by_threads rows.csv "${question%%|*},${millions}000000"
    done
done
# The last and largest one, by so many keys that lie nowhere near each other.
for power in 3 4 5 6 7 8; do
    groups=$((10 ** power))
    [ "$groups" -le "$((${sizes##* } * 1000000))" ] || continue
    recipe "rows-${sizes##* }" "group by k = (cast(delivery_id as int) * 48271) mod $groups: s = sum(litres)|total: n = count(), s = sum(s)"
    by_threads groups.csv "$groups"
done

echo
"$tool" do "read 'rows.csv'" "pivot threads by question, rows: s = first(seconds), mb = first(megabytes)" --as markdown --rows 1000
echo
"$tool" do "read 'groups.csv'" "pivot threads by groups: s = first(seconds), mb = first(megabytes)" --as markdown --rows 1000
"$tool" do "read 'rows.csv'" "filter threads = 2" \
    "draw lines seconds over rows by question to 'rows.svg' with (log = both, title = 'seconds by rows, two threads')" > /dev/null
"$tool" do "read 'groups.csv'" \
    "draw lines seconds over groups by threads to 'groups.svg' with (log = both, title = 'seconds, by groups')" > /dev/null
