//! Trial: which of a twin's mods break it, found out on a copy that is thrown away.

use std::collections::HashMap;

use serde::Serialize;

use super::change::{Decisions, apply, plan_for};
use super::find;
use crate::Yard;
use crate::catalog::ModDeed;
use crate::error::{Error, Result};
use crate::ident::{ModId, ModName, Source, TwinId, TwinName};
use crate::ops::clone;
use crate::ops::mods::change::Aim;
use crate::placing::{Found, ModUse, Set, smallest};
use crate::progress::Ctx;
use crate::twin::mods;
use crate::twin::names;
use crate::twin::planned;
use crate::upkeep::remove;

/// Whether a try went well.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Answer {
    /// It works.
    Works,
    /// It does not.
    Fails,
}

/// One try.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Attempt {
    /// The copy in which these mods are on: what is to be started.
    pub twin: TwinName,
    /// The mods that are on in it, from the lowest on.
    pub on: Vec<ModName>,
    /// Which try this is, from 1.
    pub number: u32,
}

/// What a trial came to.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Verdict {
    /// The twin.
    pub twin: TwinName,
    /// The mods that were tried: those that are on.
    pub tried: Vec<ModName>,
    /// How often something was started.
    pub starts: u32,
    /// How many answers were remembered from an earlier trial.
    pub remembered: u32,
    /// What was found out.
    pub found: Culprits,
}

/// How a trial is done.
#[derive(Clone, Debug, Default)]
pub struct TrialOptions {
    /// What tells whether a try went well, in words: answers to the same question about the same mods, on the same build, are
    /// remembered, so that a trial that was stopped goes on where it was.
    pub how: String,
    /// Whether what seems to work is tried once more before that is believed: for what fails now and then.
    pub unsure: bool,
}

/// Which mods break a twin.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Culprits {
    /// None: it works with all of them.
    None,
    /// It fails without any.
    NotTheMods,
    /// These, together: with one fewer, it works.
    These(Vec<ModName>),
}

/// Finds the smallest set of a twin's mods that fails, on a copy with all that is the player's own, which is deleted for good in
/// the end. `ask` starts the copy and says whether that went well. A sweep has to wait until then.
///
/// If the process is killed, the copy stays until the next trial of any twin, which removes it.
///
/// # Errors
/// [`Error::NotFound`], [`Error::Busy`]; whatever `ask` fails with: the copy is deleted then too.
pub fn trial(
    yard: &Yard,
    name: &TwinName,
    options: &TrialOptions,
    ask: &mut dyn FnMut(&Attempt) -> Result<Answer>,
    ctx: &Ctx,
) -> Result<Verdict> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let on: Vec<ModUse> = settled.state.mods.iter().filter(|used| used.on).cloned().collect();
    let needs = needs_of(yard, &on)?;
    clear_left(yard, ctx)?;
    let op = yard.begin(ctx)?;
    let copy = free_name(yard, name)?;
    let plan = clone::plan(yard, &Source::Twin(name.clone()), &copy, clone::Options::default(), ctx)?;
    clone::apply(yard, &plan, ctx)?;
    yard.catalog.add_trial_copy(yard.twin_row(&copy, false)?.id, &op.name())?;
    let state = &settled.state;
    let base = serde_json::to_string(&(
        &options.how,
        options.unsure,
        state.build.to_string(),
        state.laid.to_string(),
        &state.profile,
    ));
    let mut trying = Trying {
        yard,
        twin: row.id,
        base: base.unwrap_or_default(),
        copy: copy.clone(),
        on: &on,
        unsure: options.unsure,
        starts: 0,
        remembered: 0,
        answers: HashMap::new(),
    };
    let found = smallest(&needs, |set| trying.fails(set, ask, ctx));
    let (starts, remembered) = (trying.starts, trying.remembered);
    // The copy goes however that ended: who stops a trial wants none.
    let whatever = Ctx::new();
    let gone = delete(yard, &copy, &whatever);
    drop(op);
    let found = found?;
    gone?;
    let names = |set: &Set| set.iter().map(|at| on[*at].name.clone()).collect();
    Ok(Verdict {
        twin: row.name,
        tried: on.iter().map(|used| used.name.clone()).collect(),
        starts,
        remembered,
        found: match &found {
            Found::WorksWithAll => Culprits::None,
            Found::FailsWithNone => Culprits::NotTheMods,
            Found::Culprits(set) => Culprits::These(names(set)),
        },
    })
}

fn delete(yard: &Yard, copy: &TwinName, ctx: &Ctx) -> Result<()> {
    remove::plan(yard, copy, ctx).and_then(|plan| remove::let_go(yard, &plan, ctx)).map(drop)
}

/// Removes the copies of trials that were killed: somebody may have gone on with one since, so that it can come back.
fn clear_left(yard: &Yard, ctx: &Ctx) -> Result<()> {
    for (copy, stage) in yard.catalog.trial_copies()? {
        // The operation's folder goes when its process has ended, however that did.
        if yard.root().join("tmp").join(stage).exists() {
            continue;
        }
        let left = yard.catalog.twin(copy)?.filter(|row| row.removed_at.is_none());
        if let Some(row) = left
            && let Err(error) = remove::plan(yard, &row.name, ctx).and_then(|plan| remove::apply(yard, &plan, ctx))
        {
            tracing::warn!(copy = %row.name, %error, "the copy of a trial that was killed is left for the next one");
        }
    }
    Ok(())
}

/// What each needs, by numbers.
fn needs_of(yard: &Yard, on: &[ModUse]) -> Result<Vec<Set>> {
    let needs = |used: &ModUse| {
        let (_, sheet) = mods::package(yard, used)?;
        Ok(sheet.needs.iter().filter_map(|needed| find(on, needed).ok()).collect())
    };
    on.iter().map(needs).collect()
}

/// A name for the copy.
fn free_name(yard: &Yard, name: &TwinName) -> Result<TwinName> {
    let short: String = name.as_str().chars().take(20).collect();
    let names = (1..).map(|number| TwinName::new(format!("{short} trial {number}")));
    for copy in names {
        let copy = copy?;
        match names::check_free(yard, &copy) {
            Err(Error::Exists { .. }) => {}
            free => return free.map(|()| copy),
        }
    }
    Ok(name.clone())
}

/// A trial under way.
struct Trying<'a> {
    yard: &'a Yard,
    twin: TwinId,
    base: String,
    copy: TwinName,
    on: &'a [ModUse],
    unsure: bool,
    starts: u32,
    remembered: u32,
    /// What was answered, in this trial and before.
    answers: HashMap<String, bool>,
}

impl Trying<'_> {
    fn fails(&mut self, set: &Set, ask: &mut dyn FnMut(&Attempt) -> Result<Answer>, ctx: &Ctx) -> Result<bool> {
        ctx.check()?;
        let ids: Vec<ModId> = set.iter().map(|at| self.on[*at].id).collect();
        let text = serde_json::to_vec(&(&self.base, &ids)).unwrap_or_default();
        let key = blake3::hash(&text).to_hex().to_string();
        if let Some(fails) = self.answers.get(&key) {
            return Ok(*fails);
        }
        if let Some(fails) = self.yard.catalog.tried(self.twin, &key)? {
            self.remembered += 1;
            self.answers.insert(key, fails);
            return Ok(fails);
        }
        self.turn(set, ctx)?;
        let on: Vec<ModName> = set.iter().map(|at| self.on[*at].name.clone()).collect();
        let mut once = || {
            self.starts += 1;
            let (twin, number) = (self.copy.clone(), self.starts);
            Ok::<_, Error>(ask(&Attempt { twin, on: on.clone(), number })? == Answer::Fails)
        };
        let fails = once()? || (self.unsure && once()?);
        self.yard.catalog.add_try(self.twin, &key, fails)?;
        self.answers.insert(key, fails);
        Ok(fails)
    }

    /// Turns just these on in the copy.
    fn turn(&self, set: &Set, ctx: &Ctx) -> Result<()> {
        let (row, settled) = planned::see(self.yard, &self.yard.twin_row(&self.copy, false)?, ctx)?;
        let wanted: Vec<&ModUse> = set.iter().map(|at| &self.on[*at]).collect();
        let mut mods = settled.state.mods.clone();
        for used in &mut mods {
            used.on = wanted.iter().any(|on| on.id == used.id && on.name == used.name);
        }
        let aim = Aim { deed: ModDeed::On, about: Vec::new(), wanted: mods, package: None, placed: None };
        let plan = plan_for(self.yard, (row, settled), aim, &Decisions::default(), ctx)?;
        apply(self.yard, &plan, ctx).map(drop)
    }
}
