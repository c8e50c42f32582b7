//! The cookbook and the tutorial: every recipe and lesson passes its scene. No recipe passes without its
//! steps.

use lantern_script::{Sign, Token, TokenKind, lex};

use crate::home::Home;

const COOKBOOK: &str = include_str!("../../../../docs/cookbook.md");
const TUTORIAL: &str = include_str!("../../../../docs/tutorial.md");

struct Recipe {
    title: String,
    /// Files that the rules use: a name and a text each.
    used: Vec<(String, String)>,
    rules: String,
    scene: String,
}

/// The recipes of a document: a heading, rules and a scene each. Rules before others begin with the name of
/// their file in a comment.
fn recipes(document: &str) -> Vec<Recipe> {
    let mut recipes = Vec::new();
    let mut title = String::new();
    let mut files: Vec<String> = Vec::new();
    let mut block: Option<(&str, String)> = None;
    for line in document.lines() {
        match &mut block {
            Some((_, text)) if line != "```" => {
                text.push_str(line);
                text.push('\n');
            }
            Some(_) => match block.take().expect("it is there") {
                ("lantern", text) => files.push(text),
                (_, scene) => {
                    let rules = files.pop().expect("rules stand before the scene");
                    let used = files.drain(..).map(|text| {
                        let first = text.lines().next().unwrap_or_default();
                        (first.trim_start_matches("# ").to_owned(), text)
                    });
                    let used = used.collect();
                    recipes.push(Recipe { title: title.clone(), used, rules, scene });
                }
            },
            None => match line {
                "```lantern" => block = Some(("lantern", String::new())),
                "```scene" => block = Some(("scene", String::new())),
                other => {
                    if let Some(heading) = other.strip_prefix("## ") {
                        heading.clone_into(&mut title);
                    }
                }
            },
        }
    }
    recipes
}

fn rehearse(home: &Home, rules: &str, scene: &str) -> crate::home::Called {
    home.write("recipe.lantern", rules);
    home.write("recipe.scene", scene);
    home.call(&["rehearse", "recipe.lantern", "recipe.scene"])
}

/// Rules whose steps, and remaps, are taken out.
fn emptied(rules: &str) -> String {
    let tokens: Vec<Token> = lex(rules, 0, rules.len(), &mut Vec::new());
    let mut out = String::new();
    let mut at = 0;
    while at < tokens.len() {
        let token = tokens[at];
        let word = &rules[token.span.range()];
        let starts =
            at == 0 || matches!(tokens[at - 1].kind, TokenKind::LineEnd | TokenKind::Blank);
        if token.kind == TokenKind::Word && word == "remap" && starts {
            while !matches!(tokens[at].kind, TokenKind::LineEnd | TokenKind::End) {
                at += 1;
            }
            continue;
        }
        if token.kind == TokenKind::Word && word == "when" && starts {
            at = skip_rule(rules, &tokens, at, &mut out);
            continue;
        }
        out.push_str(word);
        at += 1;
    }
    out
}

/// Copies a rule's head and an empty body; gives the place behind the rule.
fn skip_rule(rules: &str, tokens: &[Token], mut at: usize, out: &mut String) -> usize {
    while !matches!(tokens[at].kind, TokenKind::Sign(Sign::BraceOpen | Sign::Arrow)) {
        out.push_str(&rules[tokens[at].span.range()]);
        at += 1;
    }
    out.push_str("{ }");
    let mut depth = 0usize;
    loop {
        match tokens[at].kind {
            TokenKind::Sign(Sign::BraceOpen) => depth += 1,
            TokenKind::Sign(Sign::BraceClose) if depth == 0 => return at,
            TokenKind::Sign(Sign::BraceClose) => {
                depth -= 1;
                // `else` and `or` continue after a brace.
                let next = tokens[at + 1..]
                    .iter()
                    .find(|token| !matches!(token.kind, TokenKind::Blank | TokenKind::LineEnd));
                let goes_on =
                    next.is_some_and(|token| matches!(&rules[token.span.range()], "else" | "or"));
                if depth == 0 && !goes_on {
                    return at + 1;
                }
            }
            TokenKind::LineEnd | TokenKind::End if depth == 0 => return at,
            _ => {}
        }
        at += 1;
    }
}

#[test]
fn every_recipe_passes_its_scene_with_nothing_to_mend() {
    let (recipes, lessons) = (recipes(COOKBOOK), recipes(TUTORIAL));
    assert!(recipes.len() >= 30, "only {} recipes", recipes.len());
    assert_eq!(lessons.len(), 10, "lessons");
    let home = Home::new();
    for recipe in recipes.into_iter().chain(lessons) {
        for (name, text) in &recipe.used {
            home.write(name, text);
        }
        let called = rehearse(&home, &recipe.rules, &recipe.scene);
        assert_eq!(called.status, 0, "{}\n{}{}", recipe.title, called.stdout, called.stderr);
        if !recipe.used.is_empty() {
            let agreed = home.call(&["check", "--powers", "--agree", "recipe.lantern"]);
            assert_eq!(agreed.status, 0, "{}", agreed.stderr);
        }
        let checked = home.call(&["check", "recipe.lantern"]);
        assert_eq!(checked.status, 0, "{}\n{}", recipe.title, checked.stdout);
    }
}

#[test]
fn no_scene_passes_once_the_steps_are_taken_out() {
    let home = Home::new();
    for recipe in recipes(COOKBOOK) {
        let rules = emptied(&recipe.rules);
        let called = rehearse(&home, &rules, &recipe.scene);
        let title = recipe.title;
        assert_eq!(called.status, 1, "{title}\n{rules}\n{}{}", called.stdout, called.stderr);
    }
}

#[test]
fn every_recipe_can_be_laid_out_recorded_and_drawn() {
    let home = Home::new();
    for recipe in recipes(COOKBOOK) {
        let title = recipe.title;
        rehearse(&home, &recipe.rules, &recipe.scene);
        let words = ["rehearse", "recipe.lantern", "recipe.scene", "--record", "full.scene"];
        assert_eq!(home.call(&words).status, 0, "{title}");
        let laid_out = home.call(&["fmt", "recipe.lantern", "recipe.scene", "full.scene"]);
        assert_eq!(laid_out.status, 0, "{title}: {}", laid_out.stdout);
        let again = home.call(&["rehearse", "recipe.lantern", "recipe.scene", "full.scene"]);
        assert_eq!(again.status, 0, "{title}\n{}", again.stdout);
        let drawn =
            home.call(&["rehearse", "recipe.lantern", "recipe.scene", "--timeline", "t.svg"]);
        assert_eq!(drawn.status, 0, "{title}");
        let svg = std::fs::read_to_string(home.path().join("t.svg")).expect("it was drawn");
        assert!(svg.starts_with("<svg") && svg.contains("came in"), "{title}");
    }
}
