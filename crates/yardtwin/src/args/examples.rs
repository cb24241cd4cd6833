//! An example for each command, shown below its help.

use clap::Command;

/// What to type, by the command that it is an example of.
const EXAMPLES: [(&str, &str); 52] = [
    ("init", "yardtwin init ~/games/yard"),
    (
        "intake",
        "yardtwin intake \"Wexcombe Junction\" --title wexcombe --build 2.0\nyardtwin intake part1.zip part2.zip --title wexcombe --build 2.1",
    ),
    ("stock list", "yardtwin stock list"),
    ("stock show", "yardtwin stock show wexcombe@2.0 --files"),
    ("stock remove", "yardtwin stock remove wexcombe@1.4"),
    ("sheet new", "yardtwin sheet new pellwick --print"),
    ("sheet learn", "yardtwin sheet learn wexcombe --from main"),
    ("sheet check", "yardtwin sheet check --on main"),
    ("sheet add", "yardtwin sheet add downloads/wexcombe.toml"),
    ("clone", "yardtwin clone wexcombe@2.0 main\nyardtwin clone main \"night turn\""),
    ("list", "yardtwin list --space"),
    ("show", "yardtwin show main --belongings"),
    ("folder", "yardtwin folder main shifts --open"),
    ("remove", "yardtwin remove \"night turn\""),
    ("rename", "yardtwin rename main \"day turn\""),
    ("share", "yardtwin share main none 'game/bin/*'"),
    ("protect", "yardtwin protect main\nyardtwin protect main --off"),
    ("snapshot", "yardtwin snapshot main \"before the mods\""),
    ("undo", "yardtwin undo main"),
    ("restore", "yardtwin restore main \"before the mods\""),
    ("history", "yardtwin history main"),
    ("diff", "yardtwin diff main \"night turn\""),
    ("check", "yardtwin check main --full"),
    ("carry", "yardtwin carry shifts settings --from main --to \"night turn\""),
    ("renew", "yardtwin renew main --stock wexcombe@2.1-rc"),
    ("mod add", "yardtwin mod add \"brass boards v3.zip\" --to main --dry-run"),
    ("mod list", "yardtwin mod list main"),
    ("mod show", "yardtwin mod show \"night rules\" --files"),
    ("mod off", "yardtwin mod off main \"brass boards\""),
    ("mod on", "yardtwin mod on main \"brass boards\""),
    ("mod remove", "yardtwin mod remove main \"brass boards\""),
    ("mod move", "yardtwin mod move main \"brass boards\" --over \"night rules\""),
    ("mod update", "yardtwin mod update main \"brass boards\" \"brass boards v4.zip\""),
    ("mod adopt", "yardtwin mod adopt main \"copper signals\" --files 'game/signals/*'"),
    ("mod explain", "yardtwin mod explain main game/boards/brass/board.txt"),
    ("mod trial", "yardtwin mod trial main --ask"),
    ("mod kept", "yardtwin mod kept"),
    ("repath", "yardtwin repath main --dry-run"),
    ("sweep", "yardtwin sweep --dry-run"),
    ("profile show", "yardtwin profile show main"),
    (
        "profile set",
        "yardtwin profile set main arguments --shifts 2\nyardtwin profile set main video.width 1280 --file panel.ini",
    ),
    ("profile unset", "yardtwin profile unset main video.width --file panel.ini"),
    ("profile apply", "yardtwin profile apply main"),
    ("profile use", "yardtwin profile use main windowed"),
    ("profile copy", "yardtwin profile copy arguments --from main --to \"night turn\""),
    ("launch", "yardtwin launch main\nyardtwin launch main --discard -- --shifts 2"),
    ("tool", "yardtwin tool main --as-mod \"lamp kit\" -- \"./lamp kit/install\""),
    ("entry add", "yardtwin entry add main"),
    ("entry list", "yardtwin entry list"),
    ("entry remove", "yardtwin entry remove main"),
    ("demo", "yardtwin demo"),
    ("completions", "yardtwin completions bash > ~/.local/share/bash-completion/completions/yardtwin"),
];

/// The commands with their examples.
pub(crate) fn with_examples(mut all: Command) -> Command {
    for (path, example) in EXAMPLES {
        let lines = example.lines().map(|line| format!("  {line}")).collect::<Vec<_>>().join("\n");
        let help = format!("{}:\n{lines}", if example.contains('\n') { "Examples" } else { "Example" });
        all = match path.split_once(' ') {
            None => all.mut_subcommand(path, |command| command.after_help(help)),
            Some((group, name)) => {
                all.mut_subcommand(group, |group| group.mut_subcommand(name, |command| command.after_help(help)))
            }
        };
    }
    all
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use clap::CommandFactory;

    use super::*;
    use crate::args::{Args, with_marks};

    /// The words of a line, as a shell parts them.
    fn words(line: &str) -> Vec<std::ffi::OsString> {
        let (mut words, mut word, mut quote) = (Vec::new(), String::new(), None);
        for c in line.chars() {
            match c {
                '"' | '\'' if quote.is_none() => quote = Some(c),
                c if quote == Some(c) => quote = None,
                ' ' if quote.is_none() => words.push(std::mem::take(&mut word).into()),
                c => word.push(c),
            }
        }
        words.push(word.into());
        words
    }

    #[test]
    fn every_command_has_an_example_and_every_example_is_one() {
        let all = with_examples(Args::command());
        for command in all.get_subcommands() {
            let inner: Vec<_> = command.get_subcommands().collect();
            let leaves = if inner.is_empty() { vec![command] } else { inner };
            for leaf in leaves {
                assert!(leaf.get_after_help().is_some(), "{} {}", command.get_name(), leaf.get_name());
            }
        }
        for line in EXAMPLES.iter().flat_map(|(_, example)| example.lines()) {
            let typed = line.split(" > ").next().unwrap();
            let understood = with_examples(Args::command()).try_get_matches_from(with_marks(words(typed)));
            assert!(understood.is_ok(), "{line}: {}", understood.unwrap_err());
        }
    }
}
