//! Sample data: a dairy cooperative. Farms deliver milk, tankers collect it, a laboratory tests it.
//!
//! The same bytes for the same rows and seed, whatever the threads: deliveries are made in blocks, each with a
//! random number generator of its own.

mod deliveries;
mod farms;
mod lab;
mod random;
pub(crate) mod server;
mod sheets;

use std::io::{Read, Write};
use std::path::Path;

/// How much data, and which.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Scale {
    pub(crate) rows: u64,
    pub(crate) seed: u64,
}

/// A file that was written: its name, its bytes, what it holds.
pub(crate) type Written = (&'static str, u64, &'static str);

const RECIPE: &str = "\
# Milk by farm since a day, and each farm's share
given since = date '2026-01-01'

define solids(l, f, p) = l * 1.03 * (f + p) / 100

read 'deliveries-*.csv' with (types = (collected_on date), bad_cells = null)
filter collected_on >= $since and litres > 0
require fat between 2 and 9, 'fat out of range'
fill protein with mean(protein) per grade
group by farm
  litres = sum(litres)
  solids = sum(solids(litres, fat, protein))
  loads = count()
  warm = count() where (temp_c > 6)
add share = litres / sum(litres) per table
sort share desc
first 10
";

const WORTH: &str = "\
# What the milk of each district was worth, month by month
table farms
  read 'farms.csv'
  select farm, district

table prices
  read 'prices.xlsx' with (header = 2)
  unpivot per_litre for (month, grade) in each '* | *' split ' | '
  fill per_litre with round(mean(per_litre) per (month, grade), 4)

read 'deliveries-2026.csv' with (types = (collected_on date), bad_cells = null)
filter grade <> 'reject' and litres > 0 and collected_on < date '2026-07-01'
add month = cast(collected_on as text format '%Y-%m')
join farms on farm expect one
join prices on district, month, grade expect one
add worth = litres * per_litre
pivot month by district
  worth = round(sum(worth), 0)
  totals
";

const PICTURES: &str = "\
# What a litre was worth, and how much milk came: two pictures
table prices
  read 'prices.xlsx' with (header = 2)
  unpivot per_litre for (month, grade) in each '* | *' split ' | '
  add month = cast(month || '-01' as date)
  draw lines price = per_litre * 100 over month by grade panels by district to 'prices.svg' with (
    title = 'What a litre was worth', unit = 'cent', source = 'the price sheet')

read 'deliveries-2026.csv' with (types = (collected_on date), bad_cells = null)
filter litres > 0
group by month = start_of(month, collected_on), grade: litres = sum(litres)
draw bars litres over month by grade to 'months.svg' with (
  title = 'Milk of 2026', unit = 'l', stacked = true, labels = true)
group by grade: litres = sum(litres), months = count()
";

const LARGEST: &str = "\
# The district with most cows, and its largest farms
given least = 200

table largest
  read 'farms.csv'
  group by district: herds = sum(herd)
  sort herds desc
  first 1

read 'farms.csv'
filter district = $largest.district and herd >= $least
add share = herd / $largest.herds
sort share desc
write 'largest.xlsx' with (sheet = 'Farms', number_formats = (share '0.0 %'))
select farm, name, herd, share
";

/// Writes all files into a folder; a file that is there must hold what would be written.
pub(crate) fn write(folder: &Path, scale: Scale) -> std::io::Result<Vec<Written>> {
    let beside = tempfile::Builder::new().prefix(".churn-").suffix(".part").tempdir_in(folder)?;
    let files = write_new(beside.path(), scale)?;
    for (name, ..) in &files {
        let target = folder.join(name);
        if target.exists() && !is_same(&target, &beside.path().join(name))? {
            let what = format!("{name} is there already and holds something else; nothing was changed");
            return Err(std::io::Error::new(std::io::ErrorKind::AlreadyExists, what));
        }
    }
    for (name, ..) in &files {
        if !folder.join(name).exists() {
            std::fs::rename(beside.path().join(name), folder.join(name))?;
        }
    }
    Ok(files)
}

/// Whether two files hold the same bytes.
fn is_same(one: &Path, other: &Path) -> std::io::Result<bool> {
    if std::fs::metadata(one)?.len() != std::fs::metadata(other)?.len() {
        return Ok(false);
    }
    let open = |path: &Path| std::fs::File::open(path).map(std::io::BufReader::new);
    let mut bytes = open(one)?.bytes().zip(open(other)?.bytes());
    bytes.try_fold(true, |same, (a, b)| Ok(same && a? == b?))
}

/// Writes all files into an empty folder.
fn write_new(folder: &Path, scale: Scale) -> std::io::Result<Vec<Written>> {
    let mut files = Vec::new();
    for year in deliveries::YEARS {
        let bytes = deliveries::write(&folder.join(year.file), year, scale)?;
        files.push((year.file, bytes, year.about));
    }
    let mut small = |name: &'static str, text: String, about: &'static str| -> std::io::Result<()> {
        std::fs::File::create(folder.join(name))?.write_all(text.as_bytes())?;
        files.push((name, text.len() as u64, about));
        Ok(())
    };
    small("farms.csv", farms::farms(scale.seed), "name, district and herd of each farm")?;
    small("tankers.json", farms::tankers(scale.seed), "the tankers and what they hold")?;
    small("lab.ndjson", lab::results(scale.seed), "nested laboratory results by farm and day")?;
    small("quota.csv", sheets::quota(scale.seed), "litres that each farm may deliver, a month a column")?;
    small("by-farm.churn", RECIPE.to_owned(), "a recipe")?;
    small("worth.churn", WORTH.to_owned(), "a recipe that turns a sheet, joins it, and turns the answer")?;
    small("pictures.churn", PICTURES.to_owned(), "a recipe that draws two pictures")?;
    small("largest.churn", LARGEST.to_owned(), "a recipe that looks into what it finds first")?;
    let prices = sheets::prices(scale.seed).map_err(std::io::Error::other)?;
    std::fs::write(folder.join("prices.xlsx"), &prices)?;
    files.push((
        "prices.xlsx",
        prices.len() as u64,
        "what a litre is worth: months over grades, a row a district",
    ));
    Ok(files)
}
