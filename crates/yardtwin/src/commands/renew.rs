//! `renew`.

use std::process::ExitCode;

use yard_twin::{Error, RelPath, TwinError, TwinName, Yard, edits, renew};

use super::twins::{changes, leaks, renamed};
use super::{Done, typed};
use crate::args::DryRun;
use crate::progress::ctx;
use crate::screen::{Screen, duration, files, listed, shell, size, some_of};

pub(crate) fn renew(yard: &Yard, name: &TwinName, options: &renew::Options, how: DryRun, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let plan = renew::plan(yard, name, options, &ctx)?;
    leaks(&plan.name, &plan.leaks, screen);
    if how.dry_run || plan.undecided() {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("The twin {} would be put on {}{}", shell(name), plan.to, whence(&plan)));
            screen.facts(&plan_facts(&plan, false));
        });
        if plan.undecided() {
            let (name, paths) = (name.to_string(), plan.rest.clone());
            return Err(Error::from(TwinError::Unexplained { name, paths }).into());
        }
        return Ok(ExitCode::SUCCESS);
    }
    let outcome = renew::apply(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| say(&plan, &outcome, screen));
    Ok(ExitCode::SUCCESS)
}

/// From where, if that is another build.
fn whence(plan: &renew::Plan) -> String {
    if plan.from == plan.to { " again".into() } else { format!(", from {}", plan.from) }
}

/// What a plan does, or did.
fn plan_facts(plan: &renew::Plan, done: bool) -> Vec<(&'static str, String)> {
    let paths = |paths: &[RelPath]| {
        let texts: Vec<_> = paths.iter().map(ToString::to_string).collect();
        if texts.is_empty() { String::new() } else { format!("{}\n{}", files(texts.len() as u64), some_of(&texts, 5)) }
    };
    let rest = match plan.rest.len() {
        0 => String::new(),
        count => format!("{}\n{}", files(count as u64), some_of(&plan.rest, 12)),
    };
    let is_new = plan.what_of_the_rest != Some(renew::Rest::Leave) && !plan.rest.is_empty();
    let rest_name = match plan.what_of_the_rest {
        None => "not explained",
        Some(renew::Rest::Keep) => "kept besides",
        Some(renew::Rest::Leave) => "not kept",
    };
    let nothing = "nothing of the player's own".to_owned();
    vec![
        ("kept", if plan.kept.is_empty() { nothing } else { plan.kept.summary() }),
        ("moved", renamed(&plan.moved)),
        ("stays where it was", some_of(&plan.not_moved, 5)),
        (rest_name, rest),
        ("if it is a mod", if is_new { super::mods::adopting(&plan.name) } else { String::new() }),
        // What is not explained is listed above already.
        (
            if done { "replaced or removed" } else { "will be replaced or removed" },
            if plan.rest.is_empty() { paths(&plan.left) } else { String::new() },
        ),
        ("comes back", paths(&plan.back)),
        ("differs from the build", paths(&plan.clashes)),
        ("mods turned off", plan.without_mods.iter().map(shell).collect::<Vec<_>>().join(", ")),
        ("kept aside", paths(&plan.aside)),
        ("edits", edits(&plan.edits)),
        ("game files", if plan.game.total() == 0 { "as they are".into() } else { changes(plan.game) }),
        ("holds then", format!("{}, {}", files(plan.totals.files), size(plan.totals.bytes))),
    ]
}

/// The profile's config edits, as far as something is done about them.
pub(super) fn edits(edits: &[edits::View]) -> String {
    let said = edits.iter().filter_map(|edit| {
        let what = match edit.does {
            edits::Does::Set => format!("set to {} again", edit.value.clone().unwrap_or_default()),
            edits::Does::Waits => "waits: its file is not there".into(),
            edits::Does::Drifted | edits::Does::Leaves => "changed since, and left so".into(),
            edits::Does::GivesBack => "given back".into(),
            edits::Does::Broken => format!("not set: {}", edit.why.as_deref().unwrap_or_default()),
            edits::Does::Nothing => return None,
        };
        Some(format!("{} in {}: {what}", edit.key, edit.file))
    });
    said.collect::<Vec<_>>().join("\n")
}

fn say(plan: &renew::Plan, outcome: &renew::Outcome, screen: &Screen) {
    let name = &outcome.name;
    if outcome.number.is_none() {
        screen.head(format_args!(
            "The twin {} is on {} and as it should be: nothing was changed",
            shell(name),
            plan.to
        ));
        return;
    }
    screen.head(format_args!("The twin {} is put on {}{}", shell(name), plan.to, whence(plan)));
    let mut facts = plan_facts(plan, true);
    facts.extend([
        ("verified", format!("{} of the player's, byte for byte", files(outcome.verified))),
        ("took", duration(outcome.took)),
        ("written meanwhile", listed(&outcome.late, 5)),
        ("set aside", listed(&outcome.set_aside, 5)),
        ("way back", typed("restore", &[name, &outcome.before])),
        ("next", typed("launch", &[name])),
    ]);
    screen.facts(&facts);
}
