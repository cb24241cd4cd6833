//! Arbitrary bytes as an archive of a mod: it is refused, or read, and where its files belong is said, asked or refused.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yard_twin::{Ctx, Source, Title, TwinName, Yard, clone, intake, mods};

struct Bench {
    _place: tempfile::TempDir,
    yard: Yard,
    package: std::path::PathBuf,
}

thread_local! {
    static BENCH: Bench = bench().expect("a yard can be made");
}

/// A yard with a twin that has a few folders.
fn bench() -> Result<Bench, Box<dyn std::error::Error>> {
    let (place, ctx) = (tempfile::tempdir()?, Ctx::new());
    let source = place.path().join("source");
    std::fs::create_dir_all(source.join("data/deep"))?;
    std::fs::write(source.join("data/deep/a"), "a")?;
    let yard = Yard::init(place.path().join("yard"))?;
    let mut options = intake::Options::new(&source, Title::new("hills")?);
    options.build = Some("1".parse()?);
    let taken = intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
    let plan = clone::plan(&yard, &Source::Stock(taken.build), &TwinName::new("t")?, clone::Options::default(), &ctx)?;
    clone::apply(&yard, &plan, &ctx)?;
    Ok(Bench { package: place.path().join("package.zip"), _place: place, yard })
}

fuzz_target!(|bytes: &[u8]| {
    BENCH.with(|Bench { yard, package, .. }| {
        let (ctx, title) = (Ctx::new(), Title::new("hills").expect("it is a title"));
        std::fs::write(package, bytes).expect("there is room");
        let read = mods::read(yard, &[package.clone()], &title, &mods::ReadOptions::default(), &ctx);
        let Ok(packed) = read else { return };
        let twin = TwinName::new("t").expect("it is a name");
        let _ = mods::plan_add(yard, &twin, &packed, &mods::AddOptions::default(), &ctx);
    });
});
