//! The commands: each asks the library, then says what came of it.

mod carry;
mod check;
mod demo;
mod diff;
mod history;
mod mods;
mod owner;
mod play;
mod renew;
mod repath;
mod settings;
mod share;
mod sheets;
mod space;
mod stock;
mod take_in;
mod terminal;
mod tool;
mod twins;
mod watch;

use std::path::PathBuf;
use std::process::ExitCode;

use clap::CommandFactory;
use yard_twin::{Source, Yard, YardError, clone};

use crate::args::{Args, Command, DryRun, ModCommand};
use crate::fail::Failure;
use crate::screen::{Screen, shell};

/// How a command ends.
pub(crate) type Done = Result<ExitCode, Failure>;

pub(crate) fn run(args: Args, screen: &Screen) -> Done {
    let place = args.yard;
    let yard = || {
        let yard = open(place.clone(), screen)?;
        if yard.was_open_to_others() {
            screen.warn(format_args!(
                "others could look into this yard ({}): it is yours alone now. If that is not wanted: private = false in its \
                 yard.toml, and its old mode back",
                yard.root().display()
            ));
        }
        Ok(yard)
    };
    match args.command {
        Command::Init { dir, how } => take_in::init(&dir.or(place).map_or_else(default_yard, Ok)?, how, screen),
        Command::Intake(intake) => take_in::intake(&yard()?, intake, screen),
        Command::Stock(command) => stock::run(&yard()?, command, screen),
        Command::Sheet(command) => sheets::run(yard, command, screen),
        Command::Clone { source: Source::Twin(twin), name, inside: Some(folder), how, .. } => {
            twins::clone_inside(&yard()?, &twin, &folder, &name, DryRun { dry_run: how.dry_run }, screen)
        }
        Command::Clone { source: Source::Stock(build), inside: Some(_), .. } => {
            let message = format!("{build} never changes: only a twin can have a folder twice");
            Err(Failure::usage(message, "yardtwin clone TWIN NEW-NAME --inside FOLDER"))
        }
        Command::Clone { source, name, share, from_folder, take_away, how, .. } => {
            let name = name.parse()?;
            let options = clone::Options { sharing: share.map(Into::into), folder: from_folder, take_away };
            twins::clone(&yard()?, &source, &name, options, how, screen)
        }
        Command::List { space: true, .. } => space::list(&yard()?, screen),
        Command::List { removed, .. } => twins::list(&yard()?, removed, screen),
        Command::Show { name, belongings: true } => carry::belongings(&yard()?, &name, screen),
        Command::Show { name, .. } => twins::show(&yard()?, &name, screen),
        Command::Folder { name, place, open } => twins::folder(&yard()?, &name, place.as_deref(), open, screen),
        Command::Remove { name, for_good, how } => twins::remove(&yard()?, &name, for_good, how, screen),
        Command::Rename { name, new, move_folder, how } => {
            twins::rename(&yard()?, &name, &new, move_folder, how, screen)
        }
        Command::Share { name, sharing, patterns, how } => {
            share::share(&yard()?, &name, &yard_twin::share::Options { sharing: sharing.into(), patterns }, how, screen)
        }
        Command::Protect { name, off, how } => twins::protect(&yard()?, &name, !off, how, screen),
        Command::Snapshot { name, label: Some(label), drop: true, how } => {
            history::drop_snapshot(&yard()?, &name, &label, how, screen)
        }
        Command::Snapshot { name, label, how, .. } => history::snapshot(&yard()?, &name, label.as_ref(), how, screen),
        Command::Undo { name, number, how } => history::undo(&yard()?, &name, number, how, screen),
        Command::Restore { name, snapshot, all, only, as_name, how } => {
            let wish = history::Wish { to: snapshot, all, only, as_name, how };
            history::restore(&yard()?, &name, wish, screen)
        }
        Command::History { name, runs: false } => history::history(&yard()?, &name, screen),
        Command::History { name, runs: true } => history::runs(&yard()?, &name, screen),
        Command::Check { what, start: true, seconds, fix, arguments, how, .. } => {
            let Some(Source::Twin(name)) = what else {
                return Err(Failure::usage("only a twin can be started", "yardtwin check NAME --start"));
            };
            watch::start(&yard()?, &name, &watch::Wish { seconds, fix, arguments, dry_run: how.dry_run }, screen)
        }
        Command::Check { what, full, fix, look_in: from, how, .. } => {
            check::check(&yard()?, &yard_twin::check::Options { what, full, from }, fix, how, screen)
        }
        Command::Diff { a, b, text, all, belongings } => {
            diff::diff(&yard()?, &a, b.as_ref(), diff::Wish { text, all, belongings }, screen)
        }
        Command::Carry(carry) => carry::carry(&yard()?, carry, screen),
        Command::Mod(ModCommand::Trial(trial)) => tool::trial(&yard()?, &trial, screen),
        Command::Tool { name, as_mod, discard, command, how } => {
            tool::tool(&yard()?, &name, tool::Wish { command, as_mod, discard, how }, screen)
        }
        Command::Mod(command) => mods::run(&yard()?, command, screen),
        Command::Renew { name, stock, keep_rest, leave_rest, without_mod: without_mods, any_build, how } => {
            let rest = match (keep_rest, leave_rest) {
                (true, _) => Some(yard_twin::renew::Rest::Keep),
                (_, true) => Some(yard_twin::renew::Rest::Leave),
                _ => None,
            };
            renew::renew(
                &yard()?,
                &name,
                &yard_twin::renew::Options { stock, rest, without_mods, any_build },
                how,
                screen,
            )
        }
        Command::Repath { name, old, new, inside, all, how } => {
            let wish = repath::Wish { name, how, named: old.zip(new), inside, all };
            repath::repath(&yard()?, &wish, screen)
        }
        Command::Sweep { how } => history::sweep(&yard()?, how, screen),
        Command::Profile(command) => settings::run(&yard()?, command, screen),
        Command::Launch { name, id, discard, ask, detach, stop, variant, arguments, in_background, how } => {
            let yard = yard()?;
            let name = match (name, id) {
                (_, Some(id)) => yard_twin::play::twin_by_id(&yard, id)?,
                (Some(name), None) => name,
                (None, None) => return Err(Failure::failed("no twin was named")),
            };
            let keep = match (discard, ask) {
                (true, _) => play::Changed::Discarded,
                (_, true) => play::Changed::Asked,
                _ => play::Changed::Kept,
            };
            if stop {
                return play::stop(&yard, &name, screen);
            }
            let wish = play::Wish { arguments, keep, variant, how, in_background };
            if detach && !how.dry_run {
                return play::detach(&yard, &name, wish, screen);
            }
            play::launch(&yard, &name, &wish, screen)
        }
        Command::Entry(command) => play::entry(&yard()?, command, screen),
        Command::Demo { dir, chapter, quiet } => demo::run(demo::Wish { dir, chapter, quiet }, screen),
        Command::Completions { shell } => {
            if screen.is_json() {
                return Err(Failure::usage("what a shell reads is no JSON", "yardtwin completions SHELL"));
            }
            // Writing to memory can't fail, as writing to a pipe can.
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Args::command(), "yardtwin", &mut script);
            screen.line(String::from_utf8_lossy(&script).trim_end());
            Ok(ExitCode::SUCCESS)
        }
    }
}

/// Opens the yard that is named, or the nearest one, or the one in the user's data folder.
fn open(place: Option<PathBuf>, screen: &Screen) -> Result<Yard, Failure> {
    let at = |root: &std::path::Path| {
        owner::go_on_as(root, screen)?;
        Ok::<_, Failure>(Yard::open(root))
    };
    let named = || std::env::var_os("YARDTWIN_YARD").filter(|named| !named.is_empty()).map(PathBuf::from);
    if let Some(place) = place.or_else(named) {
        return Ok(at(&place)??);
    }
    let here =
        std::env::current_dir().map_err(|error| Failure::failed(format!("there is no current folder: {error}")))?;
    match Yard::find_upward(&here) {
        Some(root) => Ok(at(&root)??),
        None => match at(&default_yard()?)? {
            Err(yard_twin::Error::Yard(YardError::NotAYard(path))) => {
                let (remedy, command) = match yard_below(&here) {
                    Some(below) => (
                        format!("There is one in {}: name it.", below.display()),
                        format!("export YARDTWIN_YARD={}", shell(&below.display())),
                    ),
                    None => ("Make one, or name one: --yard DIR, or $YARDTWIN_YARD.".into(), "yardtwin init".into()),
                };
                Err(Failure::Other {
                    message: format!("there is no yard here, and none at {}", path.display()),
                    remedy: Some(remedy),
                    command: Some(command),
                    code: 1,
                })
            }
            yard => Ok(yard?),
        },
    }
}

/// The first yard in a folder itself: as where the demo was made.
fn yard_below(folder: &std::path::Path) -> Option<PathBuf> {
    let folders = std::fs::read_dir(folder).ok()?.flatten().map(|entry| entry.path());
    folders.filter(|path| path.join("yard.toml").is_file()).min()
}

/// The user's data folder, by the XDG Base Directory Specification.
fn data_folder() -> Result<PathBuf, Failure> {
    let absolute = |name| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    absolute("XDG_DATA_HOME").or_else(|| absolute("HOME").map(|home| home.join(".local/share"))).ok_or_else(|| {
        Failure::failed("neither XDG_DATA_HOME nor HOME says where your data is: name the yard with --yard")
    })
}

fn default_yard() -> Result<PathBuf, Failure> {
    match std::env::var_os("YARDTWIN_YARD") {
        Some(place) => Ok(place.into()),
        None => Ok(data_folder()?.join("yardtwin")),
    }
}

/// A command to type, with its arguments as words for the shell.
pub(crate) fn typed(command: &str, arguments: &[&dyn std::fmt::Display]) -> String {
    let mut text = format!("yardtwin {command}");
    for argument in arguments {
        text.push(' ');
        text.push_str(&shell(argument));
    }
    text
}
