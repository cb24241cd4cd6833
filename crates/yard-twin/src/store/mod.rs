//! What never changes once it is there: contents in the pool, listings and states, each under the hash of what it is.
//!
//! The store knows no twin and no catalogue.

pub(crate) mod pool;
pub(crate) mod state;

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use crate::disk::op_folder::OpFolder;
use crate::disk::{self, Stat};
use crate::error::{Error, PathContext, Result};
use crate::ident::{ContentId, ListingId, ModId, StateId};
use crate::listing::delta::{self, Packed};
use crate::listing::{Entry, InHand, Layer, Listing};
use crate::parallel::lock;
use crate::placing::Package;
use pool::Pool;
use state::State;

/// Up to so many entries, a listing is kept in memory after it was read; a larger one is read again once nobody has it. (So
/// that both happens in tests, those of this crate's own keep hardly any, and all others keep them.)
const KEPT: usize = if cfg!(test) { 4 } else { 200_000 };

/// A listing that is kept whole, after it was read.
#[derive(Debug)]
struct LastWhole {
    id: ListingId,
    in_hand: InHand,
    /// The same, so that it stays.
    kept: Option<Listing>,
}

impl LastWhole {
    fn new(id: ListingId, listing: &Listing) -> Self {
        let kept = (listing.entries().len() <= KEPT).then(|| listing.clone());
        Self { id, in_hand: listing.in_hand(), kept }
    }

    fn get(&self) -> Option<Listing> {
        self.kept.clone().or_else(|| self.in_hand.get())
    }
}

/// The immutable part of a yard. A cheap handle.
#[derive(Clone)]
pub(crate) struct Store {
    root: Arc<Path>,
    pub(crate) pool: Pool,
    /// The listing that was read last, of those that are kept whole: states of one twin differ from the same one.
    last_whole: Arc<Mutex<Option<LastWhole>>>,
    /// How the files of listings looked that were read: as long as they look so, they need not be read to be believed.
    believed: Arc<Mutex<HashMap<ListingId, Stat>>>,
}

impl Store {
    /// That of the yard at `root`.
    pub(crate) fn new(root: Arc<Path>) -> Self {
        Self { pool: Pool::new(root.join("pool")), root, last_whole: Arc::default(), believed: Arc::default() }
    }

    pub(crate) fn blob_path(&self, kind: &str, id: &str) -> PathBuf {
        self.root.join(kind).join(&id[..2]).join(id)
    }

    /// Keeps immutable bytes under their id, in place of what can't be believed there: durable when it returns.
    fn put_blob(&self, kind: &str, id: &str, bytes: &[u8], op: &OpFolder) -> Result<()> {
        let path = self.blob_path(kind, id);
        if let Some(folder) = path.parent() {
            disk::make_folders(folder)?;
            let temp = op.path().join(id);
            disk::write_synced(&temp, bytes)?;
            disk::rename(&temp, &path)?;
            disk::sync_folder(folder)?;
            disk::sync_folder(&self.root.join(kind))?;
        }
        Ok(())
    }

    /// Keeps a listing: whole, or as its difference from `before`, the one that it came of, where that is small.
    pub(crate) fn put_listing(
        &self,
        listing: &Listing,
        before: Option<(ListingId, &Layer)>,
        op: &OpFolder,
    ) -> Result<ListingId> {
        let id = listing.id();
        let there = disk::exists(&self.blob_path("listings", &id.to_string()));
        // A name proves nothing: what is there is believed once it was read.
        if there && Error::pass_over(self.verify(id))?.is_some() {
            return Ok(id);
        }
        let bytes = match before.filter(|_| !there) {
            Some((before, layer)) => self.delta(listing, before, layer)?,
            None => None,
        };
        let bytes = bytes.map_or_else(|| listing.encode(), Ok)?;
        self.put_blob("listings", &id.to_string(), &bytes, op)?;
        Ok(id)
    }

    /// Whether a listing can be read, and the one that it is kept as a difference from.
    pub(crate) fn verify(&self, id: ListingId) -> Result<()> {
        let path = self.blob_path("listings", &id.to_string());
        let file = disk::open_file(rustix::fs::CWD, &path).at("read", &path)?;
        let stat = disk::fstat(&file).at("look at", &path)?;
        if lock(&self.believed).get(&id) == Some(&stat) {
            return self.base_of(id)?.map_or(Ok(()), |base| self.verify(base));
        }
        match delta::verify_whole(file, id) {
            Some(verified) => verified.map_err(|why| Error::Damaged { path, why }),
            None => {
                // It is the file that is asked, whatever was read of it before.
                lock(&self.last_whole).take_if(|last| last.id == id);
                self.listing(id).map(drop)
            }
        }
    }

    /// The listing as a difference from one that is kept whole, if less than a tenth differs.
    fn delta(&self, listing: &Listing, before: ListingId, layer: &Layer) -> Result<Option<Vec<u8>>> {
        let small = |layer: &Layer| layer.len() * 10 < listing.entries().len();
        if !small(layer) {
            return Ok(None);
        }
        let (base, layer) = match self.base_of(before)? {
            None => (before, Cow::Borrowed(layer)),
            Some(base) => match self.packed_listing(before)? {
                Packed::Delta { layer: earlier, .. } => (base, Cow::Owned(earlier.then(layer))),
                Packed::Whole(_) => return Ok(None),
            },
        };
        if small(&layer) { delta::encode(base, &layer).map(Some) } else { Ok(None) }
    }

    pub(crate) fn listing(&self, id: ListingId) -> Result<Listing> {
        let path = self.blob_path("listings", &id.to_string());
        let stat = disk::lstat(&path).at("look at", &path)?;
        match self.packed_listing(id)? {
            Packed::Whole(listing) => Ok(listing),
            Packed::Delta { base, layer } => {
                let damaged = |why: String| Error::Damaged { path, why };
                let listing = match self.packed_listing(base)? {
                    Packed::Whole(base) => delta::resolve(base, &layer, id).map_err(damaged)?,
                    Packed::Delta { .. } => return Err(damaged("it differs from one that is not kept whole".into())),
                };
                lock(&self.believed).insert(id, stat);
                Ok(listing)
            }
        }
    }

    /// The listing that another one is kept as a difference from.
    pub(crate) fn base_of(&self, id: ListingId) -> Result<Option<ListingId>> {
        let path = self.blob_path("listings", &id.to_string());
        let mut head = Vec::new();
        let file = disk::open_file(rustix::fs::CWD, &path).at("open", &path)?;
        file.take(delta::HEAD as u64).read_to_end(&mut head).at("read", &path)?;
        Ok(delta::base(&head))
    }

    pub(crate) fn packed_listing(&self, id: ListingId) -> Result<Packed> {
        if let Some(last) = lock(&self.last_whole).as_ref().filter(|last| last.id == id).and_then(LastWhole::get) {
            return Ok(Packed::Whole(last));
        }
        let path = self.blob_path("listings", &id.to_string());
        let file = disk::open_file(rustix::fs::CWD, &path).at("read", &path)?;
        let stat = disk::fstat(&file).at("look at", &path)?;
        let packed = delta::decode(file, id).map_err(|why| Error::Damaged { path, why })?;
        if let Packed::Whole(listing) = &packed {
            lock(&self.believed).insert(id, stat);
            *lock(&self.last_whole) = Some(LastWhole::new(id, listing));
        }
        Ok(packed)
    }

    pub(crate) fn put_state(&self, state: &State, op: &OpFolder) -> Result<StateId> {
        let (id, text) = state.encode();
        let there = disk::exists(&self.blob_path("states", &id.to_string()));
        if !there || Error::pass_over(self.state(id))?.is_none() {
            self.put_blob("states", &id.to_string(), &text, op)?;
        }
        Ok(id)
    }

    pub(crate) fn state(&self, id: StateId) -> Result<State> {
        let path = self.blob_path("states", &id.to_string());
        let bytes = disk::read_own(&path, disk::TEXT).at("read", &path)?;
        State::decode(&bytes, id).map_err(|why| Error::Damaged { path, why })
    }

    /// Keeps the record of a package.
    pub(crate) fn put_package(&self, package: &Package, op: &OpFolder) -> Result<ModId> {
        let (id, text) = package.encode();
        let there = disk::exists(&self.blob_path("mods", &id.to_string()));
        if !there || Error::pass_over(self.package(id))?.is_none() {
            self.put_blob("mods", &id.to_string(), &text, op)?;
        }
        Ok(id)
    }

    pub(crate) fn package(&self, id: ModId) -> Result<Package> {
        let path = self.blob_path("mods", &id.to_string());
        let bytes = disk::read_own(&path, disk::TEXT).at("read", &path)?;
        Package::decode(&bytes, id).map_err(|why| Error::Damaged { path, why })
    }

    /// The contents that listings need.
    pub(crate) fn contents_of(&self, listings: HashSet<ListingId>) -> Result<HashSet<ContentId>> {
        let mut contents = HashSet::new();
        self.each_entry(listings, |entry| contents.extend(entry.node.content()))?;
        Ok(contents)
    }

    /// Goes through the entries of many listings, and of those that they are kept as differences from; most once only.
    pub(crate) fn each_entry(&self, listings: HashSet<ListingId>, mut each: impl FnMut(&Entry)) -> Result<()> {
        let mut bases = HashSet::new();
        for &id in &listings {
            if let Some(base) = self.base_of(id)? {
                bases.insert(base);
                if let Packed::Delta { layer, .. } = self.packed_listing(id)? {
                    layer.changes().iter().filter_map(|(_, entry)| entry.as_ref()).for_each(&mut each);
                }
            } else {
                bases.insert(id);
            }
        }
        bases.into_iter().try_for_each(|id| {
            self.listing(id)?.entries().iter().for_each(&mut each);
            Ok(())
        })
    }

    /// Goes through the entries of a listing, or through those by which it differs from the one that it is kept as a difference
    /// from.
    pub(crate) fn each_own_entry(&self, id: ListingId, each: impl FnMut(&Entry)) -> Result<()> {
        match self.packed_listing(id)? {
            Packed::Whole(listing) => listing.entries().iter().for_each(each),
            Packed::Delta { layer, .. } => {
                layer.changes().iter().filter_map(|(_, entry)| entry.as_ref()).for_each(each);
            }
        }
        Ok(())
    }

    /// As [`Store::each_entry`], and passes over listings that can't be read: whether there were none. Some entries may
    /// come twice then.
    pub(crate) fn each_readable(&self, listings: HashSet<ListingId>, mut each: impl FnMut(&Entry)) -> Result<bool> {
        if Error::pass_over(self.each_entry(listings.clone(), &mut each))?.is_some() {
            return Ok(true);
        }
        for id in listings {
            Error::pass_over(self.each_entry(HashSet::from([id]), &mut each))?;
        }
        Ok(false)
    }
}
