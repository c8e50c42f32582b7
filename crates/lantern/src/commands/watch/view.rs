//! The view: decisions on the left, what runs, is held and was started on the right, or below where
//! the terminal is narrow.

use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Clear, Paragraph};

use super::model::{Model, RunningRow, Weight};
use crate::text::wrapped;

/// From this width on things stand side by side.
const WIDE: u16 = 100;
/// A view smaller than this shows nothing of use.
const LEAST: (u16, u16) = (40, 8);
/// Maximum number of lines of the heading.
const HEADING_LINES: u16 = 4;

const HELP: &[&str] = &[
    "up, down   choose a run or a program",
    "enter      stop the run, end the program",
    "s          stop everything that runs",
    "p          pause or resume everything",
    "f          show only what failed or did not fire",
    "? or h     this help",
    "q, escape  leave; what runs runs on",
];

pub fn draw(model: &mut Model, frame: &mut Frame<'_>) {
    let area = frame.area();
    if area.width < LEAST.0 || area.height < LEAST.1 {
        frame.render_widget(Paragraph::new("too small; make it 40x8 or more"), area);
        return;
    }
    let heading = heading_lines(model, area.width);
    let heads = u16::try_from(heading.len()).unwrap_or(u16::MAX).min(HEADING_LINES);
    let [head, body, foot] =
        Layout::vertical([Constraint::Length(heads), Constraint::Min(3), Constraint::Length(1)])
            .areas(area);
    frame.render_widget(Paragraph::new(heading), head);
    let side = side_lines(model);
    if area.width >= WIDE {
        let [left, right] =
            Layout::horizontal([Constraint::Percentage(60), Constraint::Percentage(40)])
                .areas(body);
        draw_decisions(model, frame, left);
        draw_side(side, frame, right);
    } else {
        let wanted = u16::try_from(side.len() + 2).unwrap_or(u16::MAX).min(body.height * 2 / 3);
        let [top, bottom] =
            Layout::vertical([Constraint::Min(3), Constraint::Length(wanted)]).areas(body);
        draw_decisions(model, frame, top);
        draw_side(side, frame, bottom);
    }
    let foot_text = match model.said.as_str() {
        "" => Line::styled("enter stop  s stop all  p pause  f failures  ? help  q leave", faint()),
        said => Line::styled(said.to_owned(), ink(model, Weight::Bad)),
    };
    frame.render_widget(Paragraph::new(foot_text), foot);
    if model.help {
        draw_help(frame, area);
    }
}

fn faint() -> Style {
    Style::new().add_modifier(Modifier::DIM)
}

fn bold() -> Style {
    Style::new().add_modifier(Modifier::BOLD)
}

/// The same colour for the same thing as everywhere; without colour weight alone tells.
fn ink(model: &Model, weight: Weight) -> Style {
    let coloured =
        |colour: Color| if model.colour { Style::new().fg(colour) } else { Style::new() };
    match weight {
        Weight::Good => coloured(Color::Green),
        Weight::Bad => coloured(Color::LightRed).add_modifier(Modifier::BOLD),
        Weight::Odd => coloured(Color::Yellow),
        Weight::Faint => faint(),
    }
}

/// The status of the session above the panes, wrapped to `columns`. Warnings follow its first line.
fn heading_lines(model: &Model, columns: u16) -> Vec<Line<'static>> {
    let warning = ink(model, Weight::Odd).add_modifier(Modifier::BOLD);
    let style = |index: usize| if index == 0 { bold() } else { warning };
    let wrapped = model.heading.iter().enumerate().flat_map(|(index, text)| {
        let lines = wrapped(text.split(' '), columns.into());
        lines.into_iter().map(move |line| Line::styled(line, style(index)))
    });
    wrapped.collect()
}

fn draw_decisions(model: &Model, frame: &mut Frame<'_>, area: Rect) {
    let title = if model.failures_only { " what failed or did not fire " } else { " decisions " };
    let block = Block::new().borders(Borders::ALL).title(title);
    let inner = block.inner(area);
    frame.render_widget(block, area);
    let shown = model.last_decisions(inner.height.into());
    if shown.is_empty() {
        frame.render_widget(Paragraph::new(Line::styled("nothing yet", faint())), inner);
        return;
    }
    let lines: Vec<Line<'_>> = shown
        .into_iter()
        .map(|decision| {
            Line::from(vec![
                Span::styled(format!("{} ", decision.time), faint()),
                Span::styled(decision.what.clone(), ink(model, decision.weight())),
                Span::raw("  "),
                Span::raw(decision.rule.clone()),
            ])
        })
        .collect();
    frame.render_widget(Paragraph::new(lines), inner);
}

/// What runs, is held and was started, a line each under its head.
fn side_lines(model: &Model) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    let parts: [(&str, &[RunningRow], usize); 3] = [
        ("runs", &model.runs, 0),
        ("programs", &model.programs, model.runs.len()),
        ("held keys", &model.held, usize::MAX),
    ];
    for (head, rows, first) in parts {
        if rows.is_empty() && head != "runs" {
            continue;
        }
        lines.push(Line::styled(head, bold()));
        if rows.is_empty() {
            lines.push(Line::styled("  none", faint()));
        }
        for (index, row) in rows.iter().enumerate() {
            let chosen = first.checked_add(index) == Some(model.chosen) && first != usize::MAX;
            let mark = if chosen { "> " } else { "  " };
            let style =
                if chosen { Style::new().add_modifier(Modifier::REVERSED) } else { Style::new() };
            lines.push(Line::styled(format!("{mark}{}", row.cells.join("  ")), style));
        }
    }
    lines
}

fn draw_side(lines: Vec<Line<'static>>, frame: &mut Frame<'_>, area: Rect) {
    let block = Block::new().borders(Borders::ALL).title(" now ");
    frame.render_widget(Paragraph::new(lines).block(block), area);
}

fn draw_help(frame: &mut Frame<'_>, area: Rect) {
    let height = u16::try_from(HELP.len() + 2).unwrap_or(u16::MAX).min(area.height);
    let width = 54.min(area.width);
    let place = Rect { x: (area.width - width) / 2, y: (area.height - height) / 2, width, height };
    let block = Block::new().borders(Borders::ALL).title(" keys ");
    let lines: Vec<Line<'_>> = HELP.iter().map(|line| Line::raw(*line)).collect();
    frame.render_widget(Clear, place);
    frame.render_widget(Paragraph::new(lines).block(block), place);
}

#[cfg(test)]
mod tests {
    use insta::assert_snapshot;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;
    use serde_json::json;

    use super::super::model::{Action, ShownDecision, ViewKey};
    use super::*;

    fn model() -> Model {
        let mut model = Model::new(false);
        model.take_status(&json!({
            "file": "/home/ice/bench.lantern", "display": ":0", "process": 4711, "seconds": 7260.0,
            "rules": 8, "panic": "ctrl+alt+shift+escape", "broken": false,
            "paused": { "all": false, "rules": [], "until": [] }, "layers": ["night"],
            "runs": [
                { "run": 3, "rule": "Cut feed, on and off", "seconds": 12.25, "does": "waits", "at": "x:1" },
                { "run": 5, "rule": "Next section of the core", "seconds": 0.02, "does": "sends input", "at": "x:4" },
            ],
            "held": [{ "key": "left-shift", "by": ["Cut feed, on and off"] }],
            "programs": [{ "name": "Core log", "process": 4800 }],
        }));
        for (time, what, kind, rule) in [
            ("18:02:01.250", "fired by f9", "fired", "Next section of the core"),
            (
                "18:02:01.500",
                "did not fire: its condition does not hold",
                "did-not-fire",
                "Deep core",
            ),
            (
                "18:02:02.000",
                "failed at line 4: no window of `corelog` is open",
                "failed",
                "Write a line",
            ),
            ("18:02:02.500", "ended", "ended", "Next section of the core"),
        ] {
            let [time, what, kind, rule] = [time, what, kind, rule].map(str::to_owned);
            model.take_decision(ShownDecision { time, what, kind, rule });
        }
        model
    }

    fn drawn(model: &mut Model, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).expect("it is memory");
        terminal.draw(|frame| draw(model, frame)).expect("it is memory");
        terminal.backend().to_string()
    }

    #[test]
    fn a_small_terminal_shows_all_of_it_below_one_another() {
        assert_snapshot!(drawn(&mut model(), 60, 20));
    }

    #[test]
    fn a_wide_terminal_shows_it_side_by_side() {
        assert_snapshot!(drawn(&mut model(), 110, 16));
    }

    #[test]
    fn failures_alone_and_help_over_it() {
        let mut model = model();
        model.take_key(ViewKey::Char('f'));
        model.take_key(ViewKey::Char('?'));
        assert_snapshot!(drawn(&mut model, 80, 24));
        assert_eq!(model.take_key(ViewKey::Escape), None, "it closes the help");
        assert_eq!(model.take_key(ViewKey::Escape), Some(Action::Leave));
    }

    #[test]
    fn no_size_is_too_small_to_draw() {
        for (width, height) in [(1, 1), (39, 30), (60, 7), (40, 8), (200, 8), (40, 60)] {
            drawn(&mut model(), width, height);
        }
    }

    #[test]
    fn keys_choose_runs_and_then_programs() {
        let mut model = model();
        let mut press = |key| model.take_key(key);
        let stop = |params| Some(Action::Order { method: "stop", params });
        assert_eq!(press(ViewKey::End), stop(json!({ "run": 3 })));
        press(ViewKey::Down);
        assert_eq!(press(ViewKey::End), stop(json!({ "run": 5 })));
        for _ in 0..5 {
            press(ViewKey::Down);
        }
        let end = Action::Order { method: "end", params: json!({ "process": 4800 }) };
        assert_eq!(press(ViewKey::End), Some(end));
        assert_eq!(press(ViewKey::Char('s')), stop(json!({})));
        let pause = Action::Order { method: "pause", params: json!({}) };
        assert_eq!(press(ViewKey::Char('p')), Some(pause));
    }
}
