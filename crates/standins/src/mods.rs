//! The mods of the made-up game, as they are downloaded.

use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

const NIGHT_RULES: &str = r#"name = "night rules"
version = "2"

[[inlay]]
archive = "game/bin/rules.wja"
from = "rules/**"
to = "rules"

[[place]]
from = "board.txt"
to = "game/boards/night"

[after]
note = "Night shifts begin at ten."
"#;

const HILL_LINE: &str = r#"name = "hill line"
version = "0.9"
builds = ["2.*"]

[after]
expect = ["game/scenery/hill-line.wjp"]
"#;

/// Writes the archives of three mods into `folder`: a set of boards in a wrapping folder, rules that go into the game's
/// archive, an overhaul in three parts; and a tool.
///
/// # Errors
/// Whatever the system says.
pub fn write_mods(folder: &Path) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    archive(
        &folder.join("brass boards v3.zip"),
        &[
            ("Brass Boards v3/READ ME.txt", "Boards of brass, for any build. Put them into the game folder.\n"),
            ("Brass Boards v3/boards/brass/board.txt", "board brass\nlevers 36\n"),
            ("Brass Boards v3/boards/brass/polish.txt", "polished\n"),
        ],
    )?;
    archive(
        &folder.join("night rules.zip"),
        &[
            ("yardtwin-mod.toml", NIGHT_RULES),
            ("rules/night.txt", "rule night 1\n"),
            ("board.txt", "board night\nlamps lit\n"),
        ],
    )?;
    archive(
        &folder.join("hill line 1 of 3.zip"),
        &[("yardtwin-mod.toml", HILL_LINE), ("scenery/hill-line.wjp", "the hill line\n")],
    )?;
    tool(&folder.join("lamp kit"))?;
    archive(&folder.join("hill line 2 of 3.zip"), &[("signals/hill/one.wjg", "a signal on the hill\n")])?;
    archive(&folder.join("hill line 3 of 3.zip"), &[("boards/hill/board.txt", "board hill\nlevers 12\n")])
}

/// A tool that writes into the folder it is started in.
fn tool(folder: &Path) -> io::Result<()> {
    let path = folder.join("install");
    fs::create_dir_all(folder)?;
    fs::write(&path, "#!/bin/sh\necho 'lamps are lit' > scenery/lamps.txt\necho 'lamp kit: done'\n")?;
    fs::set_permissions(&path, fs::Permissions::from_mode(0o755))
}

fn archive(path: &Path, files: &[(&str, &str)]) -> io::Result<()> {
    let mut zip = ZipWriter::new(fs::File::create(path)?);
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Stored)
        .last_modified_time(zip::DateTime::default());
    for (name, text) in files {
        zip.start_file(*name, options)?;
        zip.write_all(text.as_bytes())?;
    }
    zip.finish()?;
    Ok(())
}
