//! Arguments of `carry`.

use std::path::PathBuf;

use clap::{Args as Group, ValueEnum};
use yard_twin::{NameEncoding, OnClash, RelPath, TwinName};

use super::DryRun;

#[derive(Group)]
pub(crate) struct Carry {
    /// Groups of belongings, as the title sheet names them
    #[arg(required_unless_present_any = ["files", "from_file"])]
    pub(crate) group: Vec<String>,
    /// The twin that they come from
    #[arg(long, value_name = "NAME", required_unless_present_any = ["from_home", "from_file"])]
    pub(crate) from: Option<TwinName>,
    /// They come from your own home, where the title was played before; it is only read
    #[arg(long, conflicts_with_all = ["from", "from_file"])]
    pub(crate) from_home: bool,
    /// They come from a folder or file that you downloaded, into the group that --group names
    #[arg(long, value_name = "PATH", requires = "into", conflicts_with_all = ["from", "group", "files"])]
    pub(crate) from_file: Option<PathBuf>,
    /// The group that a downloaded folder or file goes into
    #[arg(long = "group", value_name = "GROUP", id = "into", requires = "from_file")]
    pub(crate) into: Option<String>,
    /// The twin that they go to (may be given more than once)
    #[arg(long, value_name = "NAME", required_unless_present = "to_folder")]
    pub(crate) to: Vec<TwinName>,
    /// They go to a new folder as plain files: a backup that needs no yard; --from-file carries them from there
    #[arg(long, value_name = "DIR", conflicts_with_all = ["to", "from_home", "from_file", "on_clash", "decide", "take_out"])]
    pub(crate) to_folder: Option<PathBuf>,
    /// Carry what the player added or changed that matches, as in 'game/cabin/*.ini' (may be given more than once)
    #[arg(long, value_name = "PATTERN")]
    pub(crate) files: Vec<String>,
    /// What to do where both twins have something of the player's own in one place
    #[arg(long, value_enum)]
    pub(crate) on_clash: Option<ClashRule>,
    /// What to do in one place, whatever --on-clash says, as in game/cabin/panel.ini=replace (may be given more than once)
    #[arg(long, value_name = "PATH=RULE", value_parser = decision)]
    pub(crate) decide: Vec<(RelPath, OnClash)>,
    /// Take them out of the twin, folder or file that they come from, once they are verified in the other
    #[arg(long = "move")]
    pub(crate) take_out: bool,
    /// Carry what is as it was shipped, too, where it is missing there: for a build that was taken in after it was played
    #[arg(long, conflicts_with_all = ["from_home", "from_file"])]
    pub(crate) shipped_too: bool,
    /// How names in a downloaded archive are written that are not UTF-8, as in shift_jis or ibm437
    #[arg(long, value_name = "ENCODING", requires = "from_file")]
    pub(crate) names: Option<NameEncoding>,
    #[command(flatten)]
    pub(crate) how: DryRun,
}

/// `PATH=RULE`.
fn decision(text: &str) -> Result<(RelPath, OnClash), String> {
    let (path, rule) = text.rsplit_once('=').ok_or("a decision is PATH=RULE, as in game/cabin/panel.ini=replace")?;
    let path = RelPath::new(path).map_err(|error| error.to_string())?;
    let rule = ClashRule::from_str(rule, false)
        .map_err(|_| format!("{rule:?} is no rule: there are skip, replace, newer and both"))?;
    Ok((path, rule.into()))
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum ClashRule {
    /// What is there stays
    Skip,
    /// What comes replaces it; the history has what was there
    Replace,
    /// The newer one of the two
    Newer,
    /// What comes gets a free name beside what is there
    Both,
}

impl From<ClashRule> for OnClash {
    fn from(rule: ClashRule) -> Self {
        match rule {
            ClashRule::Skip => Self::Skip,
            ClashRule::Replace => Self::Replace,
            ClashRule::Newer => Self::Newer,
            ClashRule::Both => Self::Both,
        }
    }
}
