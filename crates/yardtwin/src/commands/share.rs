//! `share`.

use std::process::ExitCode;

use yard_twin::{Sharing, TwinName, Unshared, Yard, share};

use super::{Done, typed};
use crate::args::DryRun;
use crate::progress::ctx;
use crate::screen::{Screen, duration, files, shell, size};

/// What to know of a twin's linked files, and the way to change them by hand or with an installer.
pub(crate) fn guarded(name: &TwinName) -> String {
    format!("read-only outside a sealed launch; to change them: {} none", typed("share", &[name]))
}

pub(crate) fn share(yard: &Yard, name: &TwinName, options: &share::Options, how: DryRun, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let plan = share::plan(yard, name, options, &ctx)?;
    let (private, shared) = (plan.private, plan.shared);
    let now = if how.dry_run { "would be" } else { "now" };
    let facts = |screen: &Screen, took: String, back: String| {
        let said = |of: share::Files, what: &str| match of.files {
            0 => String::new(),
            _ => format!("{}, {}: {now} {what}", files(of.files), size(of.bytes)),
        };
        screen.facts(&[
            ("private", said(private, "of its own, and writable")),
            ("shared", said(shared, "shared with other twins")),
            ("takes on disk", if private.bytes > 0 { size(plan.room.needs) } else { String::new() }),
            ("linked", if shared.files > 0 && plan.unshared.is_none() { guarded(&plan.name) } else { String::new() }),
            ("for", if plan.only_some { "these files, until they are replaced".into() } else { String::new() }),
            ("took", took),
            ("way back", back),
        ]);
    };
    let head = |screen: &Screen| {
        let name = shell(&plan.name);
        match (private.files + shared.files, plan.before == plan.sharing) {
            (0, true) => screen.head(format_args!("The twin {name} shares storage in that way already")),
            (0, false) => {
                screen.head(format_args!("No file of {name} changes; what comes later is shared in that way"))
            }
            _ => screen.head(format_args!("How the twin {name} shares storage")),
        }
    };
    if how.dry_run {
        screen.answer(&plan, |screen| {
            head(screen);
            facts(screen, String::new(), String::new());
        });
    } else {
        let outcome = share::apply(yard, &plan, &ctx)?;
        let back = outcome.number.map(|_| way_back(&plan, options)).unwrap_or_default();
        screen.answer(&outcome, |screen| {
            head(screen);
            facts(screen, duration(outcome.took), back);
        });
        for kept in &outcome.set_aside {
            screen.warn(format_args!("another program has it open: {kept}"));
        }
    }
    match plan.unshared.filter(|_| options.sharing != Sharing::None) {
        Some(Unshared::NoGuard) => screen.warn(
            "nothing is linked: a link would not be guarded, since writing to read-only files is not refused to you here \
             (root?); \"all\" links all the same",
        ),
        Some(Unshared::NoLinks) => screen.warn("this filesystem can share neither blocks nor files"),
        _ => {}
    }
    Ok(ExitCode::SUCCESS)
}

/// The command that makes it as it was before: what was private is so again, what was shared is shared again.
fn way_back(plan: &share::Plan, options: &share::Options) -> String {
    let before = match (plan.only_some, plan.private.files, plan.before) {
        // Files that were asked for had another way than the twin's.
        (true, 0, _) => Sharing::None,
        (true, _, Sharing::None) => Sharing::Careful,
        (_, _, before) => before,
    };
    let word = match before {
        Sharing::All => " all",
        Sharing::Careful => " careful",
        Sharing::None => " none",
    };
    let patterns: String = options.patterns.iter().map(|pattern| format!(" {}", shell(pattern))).collect();
    typed("share", &[&plan.name]) + word + &patterns
}
