//! Findings as a person reads them: the underlined text, and what to do.

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Origin, Renderer, Snippet};

use crate::codes::Severity;
use crate::{Finding, Source, Span};

/// Excerpts farther apart than this many lines are shown on their own.
const NEAR_LINES: u32 = 12;
/// Lines with more bytes are not shown; to lay one out takes time with the square of its length.
const LONGEST_LINE: usize = 2000;

/// One finding with its excerpt; `colour` for a terminal.
pub fn render(finding: &Finding, source: &Source, colour: bool) -> String {
    let renderer = if colour { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.decor_style(DecorStyle::Unicode).term_width(100);
    let level = match finding.severity() {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
    };
    let mut group: Group<'_> =
        Group::with_title(level.primary_title(&finding.message).id(finding.code.row().name));
    for part in excerpts(finding, source) {
        let shown = source.slice(source.lines(part.file, part.from, part.to));
        group = if shown.split('\n').any(|line| line.len() > LONGEST_LINE) {
            group.element(origin(source, &part))
        } else {
            group.element(excerpt(source, part))
        };
    }
    if let Some(help) = &finding.help {
        group = group.element(Level::HELP.message(help));
    }
    renderer.render(&[group])
}

/// An underlined stretch, the words under it, and whether it is what the finding is about.
type Mark<'a> = (Span, &'a str, bool);

/// The excerpts of a finding: near places share one.
fn excerpts<'a>(finding: &'a Finding, source: &Source) -> Vec<Excerpt<'a>> {
    let others = finding.others.iter().map(|(span, words)| (*span, words.as_str(), false));
    let mut marks = vec![(finding.span, finding.label.as_str(), true)];
    marks.extend(others);
    let mut excerpts: Vec<Excerpt<'_>> = Vec::new();
    for mark in marks {
        let file = source.file_at(mark.0.start);
        let first = source.place(mark.0.start).line;
        let last = source.place(mark.0.end.max(mark.0.start)).line.max(first);
        let near = excerpts.iter_mut().find(|near| {
            near.file == file && near.from <= first + NEAR_LINES && first <= near.to + NEAR_LINES
        });
        match near {
            Some(near) => {
                near.from = first.min(near.from);
                near.to = last.max(near.to);
                near.marks.push(mark);
            }
            None => excerpts.push(Excerpt { file, from: first, to: last, marks: vec![mark] }),
        }
    }
    excerpts
}

/// The place alone, of lines that no terminal could show.
fn origin<'a>(source: &'a Source, part: &Excerpt<'_>) -> Origin<'a> {
    let at = part.marks.first().map_or(0, |(span, ..)| span.start);
    let place = source.place(at);
    Origin::path(source.name_at(at)).line(place.line as usize).char_column(place.column as usize)
}

/// Lines of a file that are shown together.
struct Excerpt<'a> {
    file: usize,
    from: u32,
    to: u32,
    marks: Vec<Mark<'a>>,
}

fn excerpt<'a>(
    source: &'a Source,
    part: Excerpt<'a>,
) -> Snippet<'a, annotate_snippets::Annotation<'a>> {
    let lines = source.lines(part.file, part.from, part.to);
    let offset = lines.start as usize;
    let shown = source.slice(lines);
    let path = source.name_at(lines.start);
    let mut snippet = Snippet::source(shown).line_start(part.from as usize).path(path);
    for (span, label, primary) in part.marks {
        let range = span.start as usize - offset..(span.end as usize - offset).min(shown.len());
        let kind = if primary { AnnotationKind::Primary } else { AnnotationKind::Context };
        snippet = snippet.annotation(kind.span(range).label(Some(label).filter(|l| !l.is_empty())));
    }
    snippet
}
