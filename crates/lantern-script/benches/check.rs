//! Reading and checking: 10,000 rules of about 1 MB, and whether it stays linear from there.

use std::hint::black_box;

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use lantern_script::{Source, check, lex};

/// Rules with all that rules have, about 100 bytes each, over many programs.
fn rules(count: usize) -> String {
    let mut text = String::from(
        "language 1\nlet section = 1\nmacro note(text, gap = 20ms) { type \"{text}\" every gap; tap enter }\n\n",
    );
    for number in 0..count {
        let key = number % 24 + 1;
        let app = number / 24;
        text.push_str(&format!(
            "## Rule {number}\nwhen key ctrl+f{key}  in app \"program-{app}\" {{\n    \
             note(\"section {{section}}\"); set section = section + 1\n}}\n"
        ));
    }
    text
}

fn checking(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("check");
    group.sample_size(20);
    for count in [1_000, 10_000, 100_000] {
        let source = Source::new("bench.lantern", rules(count));
        assert!(check(&source).findings.is_empty());
        group.throughput(Throughput::Bytes(source.text.len() as u64));
        group.bench_with_input(BenchmarkId::new("rules", count), &source, |bench, source| {
            bench.iter_with_large_drop(|| check(black_box(source)));
        });
        // The floor: every byte has to be looked at once.
        group.bench_with_input(BenchmarkId::new("bytes", count), &source, |bench, source| {
            bench.iter(|| lex(black_box(&source.text), 0, source.text.len(), &mut Vec::new()));
        });
    }
    group.finish();
}

criterion_group!(benches, checking);
criterion_main!(benches);
