//! Where transforms find what they need, and leave what they make.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs;

use crate::Yard;
use crate::combine::{Contents, Key};
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{PathContext, Result};
use crate::ident::ContentId;
use crate::progress::Ctx;
use crate::store::pool::Putter;
use crate::twin::change;
use crate::twin::vouch;

/// Contents that are made for the pool, or, where it is only asked what would be made, for nothing.
pub(crate) struct Deriver<'a> {
    yard: &'a Yard,
    op: &'a OpFolder,
    pub(crate) putter: Putter<'a>,
    /// What was made of what, until it is kept.
    made: RefCell<HashMap<Key, (ContentId, u64)>>,
    only_ask: bool,
}

impl<'a> Deriver<'a> {
    pub(crate) fn new(yard: &'a Yard, op: &'a OpFolder, only_ask: bool) -> Result<Self> {
        let putter = Putter::new(&yard.store.pool, op.path(), HashSet::new())?;
        Ok(Self { yard, op, putter, made: RefCell::default(), only_ask })
    }

    /// Moves what was made into the pool, and remembers how it was made.
    pub(crate) fn keep(self, ctx: &Ctx) -> Result<()> {
        change::publish(self.yard, self.putter, self.op, None, ctx)?;
        let catalog = &self.yard.catalog;
        let made = self.made.into_inner();
        catalog.together(|| {
            made.iter().try_for_each(|(key, (content, _))| catalog.add_made(key.to_hex().as_str(), *content))
        })
    }
}

impl Contents for Deriver<'_> {
    fn read(&self, content: ContentId) -> Result<Vec<u8>> {
        vouch::bytes_of(self.yard, content)
    }

    fn put(&self, bytes: &[u8]) -> Result<ContentId> {
        if self.only_ask {
            return Ok(ContentId::from_bytes(*blake3::hash(bytes).as_bytes()));
        }
        let path = self.op.path().join("made");
        disk::write(&path, bytes)?;
        let file = fs::File::open(&path).at("open", &path)?;
        let stat = disk::fstat(&file).at("look at", &path)?;
        self.putter.put(&file, &stat, &path, &mut vec![0; disk::BUFFER], &Ctx::new())
    }

    fn recall(&self, key: &Key) -> Result<Option<(ContentId, u64)>> {
        if let Some(made) = self.made.borrow().get(key) {
            return Ok(Some(*made));
        }
        let Some(content) = self.yard.catalog.made(key.to_hex().as_str())? else { return Ok(None) };
        Ok(disk::lstat(&self.yard.store.pool.path(content)).ok().map(|stat| (content, stat.size)))
    }

    fn remember(&self, key: &Key, content: ContentId, size: u64) -> Result<()> {
        self.made.borrow_mut().insert(*key, (content, size));
        Ok(())
    }
}
