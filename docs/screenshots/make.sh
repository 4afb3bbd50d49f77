#!/usr/bin/env bash
# Pictures of the main commands over the demo's data, each in a terminal window of its own.
# Needs Xvfb, xterm, ImageMagick's import and Chromium; run it with `just screenshots`.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
root=$(cd "$here/../.." && pwd)
cargo build --profile "${PROFILE:-release}" --quiet -p churn-cli --manifest-path "$root/Cargo.toml"
target=$(cargo metadata --format-version 1 --no-deps --manifest-path "$root/Cargo.toml" |
    sed 's/.*"target_directory":"\([^"]*\)".*/\1/')
data=$(mktemp -d)
trap 'rm -rf "$data"; kill "$xvfb" 2>/dev/null || true' EXIT
export PATH="$target/${PROFILE:-release}:$PATH" DISPLAY=:97
Xvfb "$DISPLAY" -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
sleep 1
churn demo "$data" --no-tour >/dev/null
cd "$data"

shoot() { # name, then the command as it is typed
    printf 'printf "%%s\\n\\n" %q\n%s\nsleep 60\n' "\$ $2" "$2" >"$data/.shot"
    # A window that was not drawn yet gives a picture of a few bytes: it is taken again.
    for attempt in 1 2 3; do
        xterm -geometry 156x48+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#fbfaf7' -fg '#2b2b2b' -b 12 +sb \
            -e bash "$data/.shot" &
        local window=$!
        sleep 2.5
        import -window root "$here/$1.png"
        kill "$window" 2>/dev/null || true
        wait "$window" 2>/dev/null || true
        [ "$(stat -c %s "$here/$1.png")" -gt 4000 ] && return
    done
    echo "The picture $1.png is empty." >&2
    exit 1
}

shoot show 'churn show deliveries-2026.csv'
shoot profile 'churn profile deliveries-2026.csv --pairs'
shoot columns 'churn profile deliveries-2026.csv litres grade'
shoot do 'churn do deliveries-2026.csv "filter temp_c > 6" "group by grade: n = count(), litres = sum(litres), fat = mean(fat)" "sort litres desc"'
shoot run 'churn run by-farm.churn --ledger'
shoot plan 'churn plan by-farm.churn'
shoot help 'churn help moving average; churn help densify'
shoot mistake 'churn do deliveries-2026.csv "filter liters > 100 and grade = 1" "group by frm: sum(litres)"'
churn convert deliveries-2026.csv deliveries.parquet 2>/dev/null
shoot parquet 'churn do deliveries.parquet "filter collected_on >= date '"'2026-10-01'"' and litres > 6000" "group by grade: n = count(), litres = sum(litres)" "sort litres desc" --ledger'
shoot join 'churn do deliveries-2026.csv "join left '"'farms.csv'"' on farm expect one" "group by district: litres = sum(litres), loads = count()" "sort litres desc" --ledger'
shoot window 'churn do deliveries-2026.csv "window by farm order by collected_on: week = mean(litres) over last 7 rows, previous = lag(litres)" "filter farm = '"'F0042'"'" "select collected_on, litres, previous, week" "first 20"'
shoot sheet 'churn run worth.churn --ledger'
shoot largest 'churn run largest.churn --rows 12 --ledger'
cat >districts.sql <<'SQL'
-- Deliveries above the mean, by district
select f.district, count(*) as loads, sum(d.litres) as litres
from 'deliveries-2026.csv' d
left join 'farms.csv' f on d.farm = f.farm
where d.litres > (select avg(litres) from 'deliveries-2026.csv')
group by f.district
order by litres desc
SQL
shoot sql 'cat districts.sql; echo; churn sql districts.sql; echo; churn sql districts.sql --as recipe'
shoot draw 'churn draw deliveries-2026.csv "filter litres > 0" "group by week = start_of(week, collected_on), grade: litres = sum(litres)" "sort week" "lines litres over week by grade with (unit = '"'l'"')"; churn draw deliveries-2026.csv "box temp_c over grade"'
churn run pictures.churn --quiet >/dev/null
churn draw "read 'prices.xlsx' with (header = 2)" "unpivot per_litre for (month, grade) in each '* | *' split ' | '" \
    "add month = cast(month || '-01' as date)" \
    "lines price = per_litre * 100 over month by grade panels by district with (title = 'What a litre was worth', unit = 'cent', source = 'the price sheet')" \
    -o "$here/chart-prices.png" --size 1280x800
churn draw "read 'deliveries-*.csv' with (types = (collected_on date), bad_cells = null)" "points fat over litres with (title = 'Fat of each delivery', unit = '%')" \
    -o "$here/chart-points.png" --size 1280x800 --quiet
churn report pictures.churn -o report.html --title 'Milk of 2026' --quiet
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 \
    --screenshot="$here/report.png" "file://$data/report.html" >/dev/null 2>&1
