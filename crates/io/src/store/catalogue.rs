//! The stores that there are, and which of them an address belongs to.

use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, PoisonError};

use churn_core::error::nearest;
use churn_core::names::comma;
use churn_core::parallel::guarded_own;
use churn_core::{Error, ErrorKind, Result};

use super::{MARK, OWN, Store, is_of, ours, scheme};

/// The stores that there are: those of the library, and a user's own.
#[derive(Clone, Debug, Default)]
pub struct Stores {
    own: Vec<(u64, Arc<dyn Store>)>,
}

impl Stores {
    /// With one more store.
    ///
    /// # Errors
    /// There is one for one of its schemes; it has none, or one that no address begins with.
    pub fn with(mut self, store: impl Store) -> Result<Stores> {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        let schemes: Vec<String> = store.schemes().iter().map(|scheme| (*scheme).to_owned()).collect();
        let wrong = |what: String| Err(Error::new(ErrorKind::Name, what));
        if schemes.is_empty() {
            return wrong("A store without a scheme cannot be addressed.".into());
        }
        for own in &schemes {
            if scheme(&format!("{own}://")).as_ref() != Some(own) {
                return wrong(format!("No address begins with {own}://."));
            }
            if self.schemes().any(|known| known == *own) {
                return wrong(format!("There is a store for {own}:// already."));
            }
        }
        let (number, store): (u64, Arc<dyn Store>) = (NEXT.fetch_add(1, Ordering::Relaxed), Arc::new(store));
        let mut stores = OWN.lock().unwrap_or_else(PoisonError::into_inner);
        stores.retain(|_, store| store.strong_count() > 0);
        stores.insert(number, Arc::downgrade(&store));
        drop(stores);
        self.own.push((number, store));
        Ok(self)
    }

    /// Both together; a store of both must be the same one.
    ///
    /// # Errors
    /// Both have a store for one scheme, and not the same.
    pub fn together(mut self, other: &Stores) -> Result<Stores> {
        for (number, store) in &other.own {
            if self.own.iter().any(|(own, _)| own == number) {
                continue;
            }
            if let Some(scheme) = store.schemes().into_iter().find(|s| self.schemes().any(|own| own == *s)) {
                let what = format!("There are two stores for {scheme}://.");
                return Err(Error::new(ErrorKind::Name, what));
            }
            self.own.push((*number, store.clone()));
        }
        Ok(self)
    }

    fn schemes(&self) -> impl Iterator<Item = String> {
        let own = self.own.iter().map(|(_, store)| store.clone());
        let names =
            |store: Arc<dyn Store>| store.schemes().iter().map(|s| (*s).to_owned()).collect::<Vec<_>>();
        ours().into_iter().chain(own).flat_map(names)
    }

    /// The store of a scheme, and what stands before its addresses in a path.
    ///
    /// # Errors
    /// There is no such store.
    fn store(&self, scheme: &str) -> Result<(Arc<dyn Store>, String)> {
        if let Some(store) = ours().into_iter().find(|store| is_of(&**store, scheme)) {
            return Ok((store, String::new()));
        }
        let own = self.own.iter().find(|(_, store)| is_of(&**store, scheme));
        let (number, store) = own.ok_or_else(|| self.unknown(scheme))?;
        Ok((store.clone(), format!("{MARK}{number}{MARK}")))
    }

    /// The paths that an address of a recipe means; `None` if it is none.
    ///
    /// # Errors
    /// There is no such store, or nothing there.
    pub fn addresses(&self, text: &str) -> Result<Option<Vec<PathBuf>>> {
        let Some(scheme) = scheme(text) else { return Ok(None) };
        let (store, before) = self.store(&scheme)?;
        let failed = || Error::new(ErrorKind::Input, format!("The store for {scheme}:// failed."));
        let listed = guarded_own(failed, || store.list(text))?;
        Ok(Some(listed.iter().map(|one| PathBuf::from(format!("{before}{one}"))).collect()))
    }

    /// The path that an address is written at; `None` if it is none.
    ///
    /// # Errors
    /// There is no such store, or it is read only.
    pub fn written(&self, text: &str) -> Result<Option<PathBuf>> {
        let Some(scheme) = scheme(text) else { return Ok(None) };
        let (store, before) = self.store(&scheme)?;
        if store.is_writable() {
            return Ok(Some(PathBuf::from(format!("{before}{text}"))));
        }
        Err(Error::new(ErrorKind::Check, format!("Addresses of {scheme}:// are read, not written."))
            .next("Write a file, and send it from there."))
    }

    fn unknown(&self, scheme: &str) -> Error {
        let known: Vec<String> = self.schemes().map(|scheme| format!("{scheme}://")).collect();
        let error = Error::new(ErrorKind::Input, format!("There is no store for {scheme}://."))
            .why(format!("Addresses begin with {}.", comma(&known)));
        let schemes: Vec<String> = self.schemes().collect();
        match nearest(scheme, schemes.iter().map(String::as_str)) {
            Some(near) => error.next(format!("Did you mean {near}://?")),
            None => error,
        }
    }
}
