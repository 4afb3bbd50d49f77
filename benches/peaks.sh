#!/usr/bin/env bash
# Peak memory and seconds of each operator over 3 million rows, and over 60,000 rows of 500 columns, at small budgets: a
# table in Markdown.
#
# usage: benches/peaks.sh TOOL [FOLDER]     TOOL is a release build of churn, FOLDER where the data go
# A peak above the budget and 64 MB is marked with !. Needs GNU time and awk.
set -euo pipefail
tool=$1
folder=${2:-$(mktemp -d)}
rows=${ROWS:-3000000}
mkdir -p "$folder"
cd "$folder"
if [ ! -e t.csv ]; then
    awk -v rows="$rows" 'BEGIN {
        print "id,farm,code,litres,grade,day"
        for (i = 0; i < rows; i++) {
            h = (i * 7919 + 13) % 1000003
            printf "%d,F%03d,delivery number %07d,%d.%d,%s,2026-%02d-%02d\n",
                i, h % 997, (i * 48271) % rows, h % 900, h % 10, substr("ABCR", h % 4 + 1, 1), h % 12 + 1, h % 28 + 1
        }
    }' > t.csv
    awk 'BEGIN { print "grade,x"; for (i = 0; i < 4000; i++) printf "%s,%d\n", substr("ABCR", i % 4 + 1, 1), i }' > fan.csv
fi

if [ ! -e wide.csv ]; then
    awk 'BEGIN {
        printf "id"
        for (c = 1; c < 500; c++) printf ",c%d", c
        print ""
        for (i = 0; i < 60000; i++) {
            printf "%d", (i * 7919) % 60000
            for (c = 1; c < 500; c++) {
                if (c % 3 == 0) printf ",%d.%d", (i * c) % 911, c % 10
                else if (c % 3 == 1) printf ",%d", (i * 31 + c * 7) % 5003
                else printf ",F%d", (i + c) % 997
            }
            print ""
        }
    }' > wide.csv
    "$tool" convert wide.csv wide.parquet --quiet
fi

# A name and the steps over the table, separated by |; or a name and a whole command that starts with !.
cases=(
    "group, few keys|group by farm: n = count(), litres = sum(litres), m = median(litres)"
    "group, many keys|group by id: n = count(), litres = sum(litres)"
    "group, many text keys|group by code: n = count(), litres = sum(litres)"
    "group, one key|add k = 1|group by k: n = count(), s = stddev(litres), m = median(litres)"
    "distinct, many keys|distinct by id"
    "distinct, many text keys|distinct by code, day"
    "count_distinct, many|total: n = count_distinct(code)"
    "per, many keys|add m = max(litres) per code"
    "sort by a number|sort litres desc, id"
    "sort by a text|sort code"
    "window, few keys|window by farm order by day: m = mean(litres) over last 7 rows"
    "window, one key|window order by id: s = sum(litres) over rows so far"
    "pivot, many rows|pivot grade by code: litres = sum(litres)"
    "join, large with large|join 't.csv' on code prefix 'o_'"
    "join, fan-out of 1,000|filter id < 3000|join 'fan.csv' on grade"
    "fan-out, then first|join 'fan.csv' on grade|first 10"
    "fan-out, then distinct|filter id < 3000|join 'fan.csv' on grade|distinct by x"
    "sample of a million|sample 1000000"
    "last of a million|last 1000000"
    "require unique|require unique by code"
    "last per, many keys|last 1 per code"
    "900 Parquet files|!do t.csv 'add k = id mod 900' \"write 'out' with (split_by = (k), format = parquet)\""
    "a million rows as Markdown|!do t.csv 'first 1000000' -o out.md"
    "500 columns, CSV to Parquet|!convert wide.csv out.parquet"
    "500 columns, Parquet sorted|!do wide.parquet 'sort c7 desc, id' -o out.parquet"
    "500 columns, profile of all pairs|!profile wide.csv --pairs"
)

echo "| operator | 32 MB | 64 MB | 256 MB |"
echo "| --- | --- | --- | --- |"
for case in "${cases[@]}"; do
    IFS='|' read -r name first second third <<< "$case"
    if [ "${first:0:1}" = "!" ]; then
        eval "command=(${first:1})"
    else
        command=(do t.csv "$first")
        [ -n "${second:-}" ] && command+=("$second")
        [ -n "${third:-}" ] && command+=("$third")
        command+=(-o out.csv)
    fi
    line="| $name |"
    for budget in 32 64 256; do
        rm -rf out out.*
        if /usr/bin/time -f "%M %e" -o figures timeout 300 "$tool" "${command[@]}" --quiet --memory "${budget}MB" > shown 2> told; then
            read -r kilobytes seconds < <(tail -1 figures)
            peak=$((kilobytes / 1000))
            mark=""
            [ "$peak" -gt $((budget + 64)) ] && mark="!"
            line+=" $peak MB$mark, $seconds s |"
        else
            line+=" $(head -1 told | cut -c1-60) |"
        fi
    done
    echo "$line"
done
rm -rf out out.* figures told shown
