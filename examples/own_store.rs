//! A store of one's own: files that have addresses, here in the memory of the process, read and written by recipes.

use std::collections::BTreeMap;
use std::io::{Cursor, ErrorKind, Read, Result};
use std::sync::{Arc, Mutex, PoisonError};

use churn::Flow;
use churn::extend::{Catalogue, Store, StoredStream};

/// Files by their addresses, `shelf://…`.
#[derive(Clone, Debug, Default)]
pub struct Shelf(Arc<Mutex<BTreeMap<String, Vec<u8>>>>);

impl Store for Shelf {
    fn schemes(&self) -> Vec<&str> {
        vec!["shelf"]
    }

    /// A star at the end of an address stands for whatever follows.
    fn list(&self, address: &str) -> churn::Result<Vec<String>> {
        let Some(start) = address.strip_suffix('*') else { return Ok(vec![address.to_owned()]) };
        let files = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(files.keys().filter(|file| file.starts_with(start)).cloned().collect())
    }

    fn read(&self, address: &str) -> Result<StoredStream> {
        let files = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let bytes = files.get(address).cloned().ok_or(ErrorKind::NotFound)?;
        Ok(StoredStream::new(Cursor::new(bytes)))
    }

    fn is_writable(&self) -> bool {
        true
    }

    /// A run that fails writes nothing: this is called when a file is complete.
    fn write(&self, address: &str, bytes: &mut dyn Read, _: u64) -> Result<()> {
        let mut held = Vec::new();
        bytes.read_to_end(&mut held)?;
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(address.to_owned(), held);
        Ok(())
    }
}

/// Writes two files to the shelf, one of them packed, and reads both as one table.
pub fn main() -> churn::Result<()> {
    let catalogue = Catalogue::new().with_store(Shelf::default())?;
    for (month, litres) in [("01.csv", 120), ("02.csv.gz", 80)] {
        let milk = Flow::steps(&format!("values farm, litres: ('F001', {litres})")).extended(&catalogue);
        milk.write(format!("shelf://milk/2026-{month}"))?;
    }
    let year = Flow::read("shelf://milk/2026-*").extended(&catalogue);
    println!("{}", year.total("files = count(), litres = sum(litres)").run()?);

    if let Err(error) = Flow::read("shelv://milk/2026-01.csv").extended(&catalogue).check() {
        println!("{error}");
    }
    Ok(())
}
