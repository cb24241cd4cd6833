//! What the made-up builds consist of. The same build is the same bytes every time.

use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

/// The title sheet of Wexcombe Junction.
pub const WEXCOMBE_SHEET: &str = include_str!("../data/wexcombe.toml");

/// The title sheet of Pellwick.
pub const PELLWICK_SHEET: &str = include_str!("../data/pellwick.toml");

/// The builds of Wexcombe Junction with their channels, the oldest first.
pub const WEXCOMBE_BUILDS: [(&str, &str); 3] = [("1.4", "old line"), ("2.0", "main line"), ("2.1-rc", "fresh")];

const MIB: usize = 1 << 20;

/// Writes a build of Wexcombe Junction into `folder`, over what is there; `program` is a program that becomes the game
/// when it is started as `wexcombe`.
///
/// # Errors
/// Whatever the system says; an unknown build is an error too.
pub fn write_wexcombe(folder: &Path, build: &str, program: &Path) -> io::Result<()> {
    let Some(age) = WEXCOMBE_BUILDS.iter().position(|(known, _)| *known == build) else {
        return Err(io::Error::other(format!("there is no build {build} of Wexcombe Junction")));
    };
    let age = age as u64;
    write(
        &folder.join("release.json"),
        format!("{{\n  \"title\": \"Wexcombe Junction\",\n  \"build\": \"{build}\"\n}}\n"),
    )?;
    // A running program can't be overwritten, but replaced.
    let game = folder.join("bin/wexcombe");
    fs::create_dir_all(folder.join("bin"))?;
    if game.exists() {
        fs::remove_file(&game)?;
    }
    fs::copy(program, &game)?;
    rules(&folder.join("bin/rules.wja"), build)?;
    // The landscape is the same in all builds; the trains are not.
    for (name, size) in [("hills", 6 * MIB), ("valleys", 5 * MIB), ("villages", 3 * MIB)] {
        write(&folder.join(format!("scenery/{name}.wjp")), noise(size as u64, size))?;
    }
    write(&folder.join("scenery/trains.wjp"), noise(100 + age, 2 * MIB))?;
    for number in 0..96u64 {
        // A newer build has redrawn a few signals.
        let drawn = if number % 12 < age { age } else { 0 };
        let bytes = noise(1000 * drawn + number, 2000 + 37 * usize::try_from(number).unwrap_or(0));
        write(&folder.join(format!("signals/signal-{number:02}.wjg")), bytes)?;
    }
    for board in ["plain", "brass", "night"] {
        write(&folder.join(format!("boards/{board}/board.txt")), format!("board {board}\nlevers 24\nfor {build}\n"))?;
    }
    write(
        &folder.join("cabin/panel.ini"),
        "; the panel of your signal box\n[video]\nwidth = 1280\nheight = 800\n\n[sound]\nbells = on\n",
    )?;
    write(&folder.join("cabin/exchanges.lst"), "wexcombe main exchange 7001\n")?;
    fs::create_dir_all(folder.join("cabin/shifts"))?;
    write(&folder.join("guide/READ ME first.txt"), format!("Wexcombe Junction {build}\nStart bin/wexcombe.\n"))
}

/// Writes what is small of a build of Wexcombe Junction into `folder`, with a script for its program.
///
/// # Errors
/// Whatever the system says.
pub fn write_small_wexcombe(folder: &Path, build: &str) -> io::Result<()> {
    write(
        &folder.join("release.json"),
        format!("{{\n  \"title\": \"Wexcombe Junction\",\n  \"build\": \"{build}\"\n}}\n"),
    )?;
    let game = folder.join("bin/wexcombe");
    write(&game, "#!/bin/sh\necho \"the junction is quiet\"\n")?;
    fs::set_permissions(&game, fs::Permissions::from_mode(0o755))?;
    write(&folder.join("boards/plain/board.txt"), format!("board plain\nlevers 24\nfor {build}\n"))?;
    rules(&folder.join("bin/rules.wja"), build)?;
    write(&folder.join("cabin/panel.ini"), "[video]\nwidth = 1280\n")?;
    fs::create_dir_all(folder.join("cabin/shifts"))?;
    write(&folder.join("guide/READ ME first.txt"), format!("Wexcombe Junction {build}\nStart bin/wexcombe.\n"))
}

/// Writes a version of Pellwick into `folder`; `program` becomes the emulator when it is started as `pellwick`.
///
/// # Errors
/// Whatever the system says.
pub fn write_pellwick(folder: &Path, version: &str, program: &Path) -> io::Result<()> {
    write(&folder.join("VERSION"), format!("{version}\n"))?;
    write(&folder.join("firmware/micro.rom"), noise(77, MIB))?;
    fs::copy(program, folder.join("pellwick")).map(|_| ())
}

/// The game's rules: a zip-format archive with a folder of signatures.
fn rules(path: &Path, build: &str) -> io::Result<()> {
    let mut archive = ZipWriter::new(fs::File::create(path)?);
    let options = SimpleFileOptions::default().compression_method(CompressionMethod::Stored);
    for (name, text) in [
        ("SEAL/manifest.txt", format!("sealed for {build}\n")),
        ("SEAL/rules.sig", format!("{:016x}\n", noise_number(build.len() as u64 * 31))),
        ("rules/block.txt", "one train in a section\n".to_owned()),
        ("rules/bells.txt", format!("call attention: 1\nbuild: {build}\n")),
    ] {
        archive.start_file(name, options).map_err(io::Error::other)?;
        archive.write_all(text.as_bytes())?;
    }
    archive.finish().map_err(io::Error::other)?;
    Ok(())
}

fn write(path: &Path, bytes: impl AsRef<[u8]>) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(path, bytes)
}

/// The next number after `seed` of `SplitMix64` (Steele, Lea, Flood: Fast Splittable Pseudorandom Number Generators, 2014).
fn noise_number(seed: u64) -> u64 {
    let mut z = seed.wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

/// Bytes that look like packed pictures and sounds, the same for the same seed.
fn noise(seed: u64, len: usize) -> Vec<u8> {
    let words = len.div_ceil(8) as u64;
    let mut bytes: Vec<u8> =
        (0..words).flat_map(|n| noise_number(seed.wrapping_mul(0x1_0000_0001) ^ n).to_le_bytes()).collect();
    bytes.truncate(len);
    bytes
}
