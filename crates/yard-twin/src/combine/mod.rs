//! Combining: what a folder is to hold, where some contents have yet to be made from the bytes of others.
//!
//! The logic stays pure: a [`Draft`] says what is to be made of what, and [`realise`] has it made, each thing once.

mod carrying;
mod forms;
mod loose;
mod places;
mod renaming;
mod repath;
mod transform;
mod wholes;
mod words;

pub use carrying::{CarryItem, Does, Met};
pub(crate) use carrying::{Decided, Incoming, Target, decide, time, without};
pub(crate) use places::{Moves, known, place};
pub(crate) use renaming::{new_places, rename};
pub use repath::PathForm;
pub(crate) use repath::{PathHit, Repather, is_text, repathed};
pub(crate) use transform::{EditStep, Transform};
pub(crate) use wholes::Wholes;

use crate::error::Result;
use crate::ident::ContentId;
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::progress::Ctx;

/// Names what a transform makes of an input: BLAKE3 of the transform, its version, and the input's id.
pub(crate) type Key = blake3::Hash;

/// A listing to come: one that is there, with entries on top whose contents are to be made.
#[derive(Clone, Debug)]
pub(crate) struct Draft {
    pub(crate) base: Listing,
    pub(crate) derived: Vec<Derive>,
}

impl From<Listing> for Draft {
    /// One in which nothing has to be made.
    fn from(base: Listing) -> Self {
        Self { base, derived: Vec::new() }
    }
}

/// A file that is to be made.
#[derive(Clone, Debug)]
pub(crate) struct Derive {
    /// Where, and of what: its content is the transform's input.
    pub(crate) of: Entry,
    pub(crate) transform: Transform,
}

/// Where contents are, and what was made of them before.
pub(crate) trait Contents {
    /// The bytes of one.
    fn read(&self, content: ContentId) -> Result<Vec<u8>>;

    /// Keeps bytes.
    fn put(&self, bytes: &[u8]) -> Result<ContentId>;

    /// What was made before, with its size, if that is still there.
    fn recall(&self, key: &Key) -> Result<Option<(ContentId, u64)>>;

    /// Remembers what was made.
    fn remember(&self, key: &Key, content: ContentId, size: u64) -> Result<()>;
}

/// Has everything made that a draft needs. A transform that leaves its input as it is makes nothing.
///
/// # Errors
/// Whatever reading and keeping contents fails with, and [`crate::Error::Cancelled`].
pub(crate) fn realise(draft: Draft, contents: &impl Contents, ctx: &Ctx) -> Result<Listing> {
    let mut made = Vec::new();
    for Derive { of, transform } in draft.derived {
        ctx.check()?;
        let Node::File { content, size, executable } = of.node else { continue };
        let (content, size) = derive(&transform, content, size, contents)?;
        let entry = Entry { node: Node::File { content, size, executable }, ..of };
        made.push((entry.path.clone(), Some(entry)));
    }
    overlay(&draft.base, &Layer::new(made)?)
}

fn derive(transform: &Transform, input: ContentId, size: u64, contents: &impl Contents) -> Result<(ContentId, u64)> {
    let key = transform.key(input);
    if let Some(made) = contents.recall(&key)? {
        return Ok(made);
    }
    let made = match transform.run(&contents.read(input)?) {
        None => (input, size),
        Some(bytes) => (contents.put(&bytes)?, bytes.len() as u64),
    };
    contents.remember(&key, made.0, made.1)?;
    Ok(made)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use std::cell::{Cell, RefCell};
    use std::collections::HashMap;

    use super::*;
    use crate::path::RelPath;

    #[derive(Default)]
    struct InMemory {
        bytes: RefCell<HashMap<ContentId, Vec<u8>>>,
        made: RefCell<HashMap<Key, ContentId>>,
        reads: Cell<u32>,
    }

    impl Contents for InMemory {
        fn read(&self, content: ContentId) -> Result<Vec<u8>> {
            self.reads.set(self.reads.get() + 1);
            Ok(self.bytes.borrow()[&content].clone())
        }

        fn put(&self, bytes: &[u8]) -> Result<ContentId> {
            let id = ContentId::from_bytes(*blake3::hash(bytes).as_bytes());
            self.bytes.borrow_mut().insert(id, bytes.to_vec());
            Ok(id)
        }

        fn recall(&self, key: &Key) -> Result<Option<(ContentId, u64)>> {
            let made = self.made.borrow().get(key).copied();
            Ok(made.map(|content| (content, self.bytes.borrow()[&content].len() as u64)))
        }

        fn remember(&self, key: &Key, content: ContentId, _: u64) -> Result<()> {
            self.made.borrow_mut().insert(*key, content);
            Ok(())
        }
    }

    fn file(contents: &InMemory, path: &str, text: &str) -> Entry {
        let content = contents.put(text.as_bytes()).unwrap();
        let node = Node::File { content, size: text.len() as u64, executable: false };
        Entry { path: RelPath::new(path).unwrap(), node, mtime: 7 }
    }

    #[test]
    fn each_content_is_made_once_and_what_needs_none_is_left_as_it_is() {
        let contents = InMemory::default();
        let named = |path| file(&contents, path, "data = /yard/twins/a/game\n");
        let entries = vec![named("game/one.ini"), named("game/two.ini"), file(&contents, "game/none.ini", "quiet\n")];
        let base = Listing::new(entries.clone()).unwrap();
        let draft = || {
            let transform = || Transform::Repath { pairs: vec![("/yard/twins/a".into(), "/yard/twins/other".into())] };
            let derived = entries.iter().map(|of| Derive { of: of.clone(), transform: transform() }).collect();
            Draft { base: base.clone(), derived }
        };
        let realised = realise(draft(), &contents, &Ctx::new()).unwrap();
        let text = |path: &str| {
            let entry = realised.get(path).unwrap();
            let bytes = contents.bytes.borrow()[&entry.node.content().unwrap()].clone();
            assert_eq!(entry.node.size(), bytes.len() as u64);
            String::from_utf8(bytes).unwrap()
        };
        assert_eq!(text("game/one.ini"), "data = /yard/twins/other/game\n");
        assert_eq!(text("game/two.ini"), text("game/one.ini"));
        assert_eq!(realised.get("game/none.ini"), base.get("game/none.ini"));
        assert_eq!(contents.reads.get(), 2, "two contents, each read once");
        assert_eq!(realise(draft(), &contents, &Ctx::new()).unwrap(), realised);
        assert_eq!(contents.reads.get(), 2, "and the second time none");
    }
}
