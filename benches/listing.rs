//! The inside of the everyday commands: encoding, decoding, comparing and rebasing listings, planning, scanning, checking.
#![allow(missing_docs, clippy::unwrap_used)]

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use yard_twin::{
    Ctx, Listing, RelPath, Source, Title, TwinName, Yard, check, clone, compare, diff, intake, rebase, steps, stock,
};

/// A build of 10,000 small files, taken in, and a twin of it.
fn yard(place: &std::path::Path) -> (Yard, Listing) {
    for folder in 0..100 {
        let folder = place.join(format!("source/set{folder:02}"));
        std::fs::create_dir_all(&folder).unwrap();
        for file in 0..100 {
            std::fs::write(folder.join(format!("item{file:02}.dat")), format!("{folder:?} {file}")).unwrap();
        }
    }
    let (yard, ctx) = (Yard::init(place.join("yard")).unwrap(), Ctx::new());
    let mut options = intake::Options::new(place.join("source"), Title::new("bench").unwrap());
    options.build = Some("1".parse().unwrap());
    let build = intake::apply(&yard, &intake::plan(&yard, options, &ctx).unwrap(), &ctx).unwrap().build;
    let name = TwinName::new("twin").unwrap();
    let plan = clone::plan(&yard, &Source::Stock(build.clone()), &name, clone::Options::default(), &ctx).unwrap();
    clone::apply(&yard, &plan, &ctx).unwrap();
    let listing = stock::details(&yard, &build).unwrap().1;
    (yard, listing)
}

fn benches(criterion: &mut Criterion) {
    let place = tempfile::tempdir().unwrap();
    let (yard, listing) = yard(place.path());
    let (ctx, name) = (Ctx::new(), TwinName::new("twin").unwrap());
    let renamed = |every: usize, ending: &str| {
        let mut entries = listing.entries().to_vec();
        for entry in entries.iter_mut().step_by(every) {
            entry.path = RelPath::new(format!("{}.{ending}", entry.path)).unwrap();
        }
        Listing::new(entries).unwrap()
    };
    let (changed, next) = (renamed(100, "new"), renamed(50, "next"));
    // What is hashed is the canonical stream: a listing as it is encoded.
    criterion.bench_function("encode: the stream and id of 10,000 entries", |b| {
        b.iter(|| Listing::new(black_box(listing.entries().to_vec())).unwrap().id());
    });
    let build = stock::list(&yard, false).unwrap()[0].build.clone();
    criterion.bench_function("decode: a stock build of 10,000 files, with what else is asked of it", |b| {
        b.iter(|| stock::details(&Yard::open(yard.root()).unwrap(), black_box(&build)).unwrap());
    });
    criterion.bench_function("difference of 1 % in 10,000", |b| b.iter(|| diff(&listing, black_box(&changed)).count()));
    criterion.bench_function("rebase of 1 % onto 2 % in 10,000", |b| {
        b.iter(|| rebase(&listing, black_box(&changed), &next, |_| true).unwrap());
    });
    criterion.bench_function("plan: steps for 1 % of 10,000", |b| b.iter(|| steps(&listing, black_box(&changed))));
    criterion.bench_function("scan: 10,000 files in which nothing changed", |b| {
        b.iter(|| compare::since(&yard, black_box(&name), &ctx).unwrap());
    });
    criterion.bench_function("check: 10,000 files and their contents, every byte", |b| {
        let options = check::Options { full: true, ..check::Options::default() };
        b.iter(|| check::look(&yard, black_box(&options), &ctx).unwrap());
    });
}

criterion_group!(all, benches);
criterion_main!(all);
