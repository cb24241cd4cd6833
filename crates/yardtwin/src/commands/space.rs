//! `list --space`, and what `show` says of it.

use std::process::ExitCode;

use yard_twin::{Yard, space};

use super::{Done, typed};
use crate::progress::ctx;
use crate::screen::{Screen, Tone, size};

/// Cells of the longest bar.
const BAR: u64 = 30;

pub(crate) fn list(yard: &Yard, screen: &Screen) -> Done {
    let space = space::yard(yard, &ctx(screen))?;
    screen.answer(&space, |screen| say(&space, screen));
    Ok(ExitCode::SUCCESS)
}

fn say(space: &space::YardSpace, screen: &Screen) {
    screen.head(format_args!(
        "The yard takes {} on disk; its builds and twins copied by hand would take {}",
        size(space.on_disk),
        size(space.copied_by_hand)
    ));
    screen.facts(&[
        ("stored", format!("{}, each file once", size(space.pool))),
        ("removed twins", if space.removed > 0 { size(space.removed) } else { String::new() }),
    ]);
    if space.twins.is_empty() {
        return;
    }
    screen.line("");
    let heading = ["TWIN", "SIZE", "ON DISK", "ITS OWN", "SHARED", "MOST OF IT WITH", "DELETING FREES"];
    screen.table(&heading, space.twins.iter().map(row).collect());
    screen.line("");
    bars(&space.twins, screen);
    if space.twins.iter().any(|twin| twin.estimated) {
        screen.warn("which blocks are shared isn't told here: what shares blocks is taken to share all of them");
    }
    screen.line("");
    screen.facts(&[("all about one", typed("show NAME", &[]))]);
}

fn row(twin: &space::Space) -> Vec<String> {
    let about = if twin.estimated { "about " } else { "" };
    vec![
        twin.name.to_string(),
        size(twin.seen),
        // Files take whole blocks, so that this may be more.
        format!("{about}{}", size(twin.own + twin.shared)),
        format!("{about}{}", size(twin.own)),
        format!("{about}{}", size(twin.shared)),
        twin.shared_with.first().map(|with| with.name.clone()).unwrap_or_default(),
        format!("{about}{}", size(twin.frees)),
    ]
}

/// How much of each twin is its own, and how much is shared, beside each other.
fn bars(twins: &[space::Space], screen: &Screen) {
    let most = twins.iter().map(|twin| twin.own + twin.shared).max().unwrap_or(1).max(1);
    let width = twins.iter().map(|twin| twin.name.as_str().chars().count()).max().unwrap_or(0);
    let cells = |part: u64| if part == 0 { 0 } else { (part.saturating_mul(BAR) / most).max(1) };
    for twin in twins {
        let name = twin.name.as_str();
        let name = format!("  {name}{}  ", " ".repeat(width - name.chars().count()));
        let [own, shared] = [("#", twin.own), ("-", twin.shared)]
            .map(|(mark, part)| mark.repeat(usize::try_from(cells(part)).unwrap_or_default()));
        screen.pieces(&[(Tone::Plain, &name), (Tone::Other, &own), (Tone::Faint, &shared)]);
    }
    screen.pieces(&[(Tone::Other, "  # of its own  "), (Tone::Faint, "- shared")]);
}

/// What a twin shares, and with what.
pub(super) fn shared_with(space: &space::Space) -> String {
    let with: Vec<_> =
        space.shared_with.iter().take(6).map(|with| format!("{}: {}", with.name, size(with.bytes))).collect();
    let more = space.shared_with.len().saturating_sub(6);
    let more = if more > 0 { format!("\nand {more} more") } else { String::new() };
    with.join("\n") + &more
}

/// What deleting a twin would free, and what a copy by hand would have taken.
pub(super) fn frees(space: &space::Space) -> String {
    let about = if space.estimated { "about " } else { "" };
    format!("{about}{} (a copy made by hand takes {})", size(space.frees), size(space.copied_by_hand))
}
