//! The cookbook: every recipe passes its scene, and fails it without its steps.

use lantern_script::{Sign, Token, TokenKind, lex};

use crate::home::Home;

const COOKBOOK: &str = include_str!("../../../../docs/cookbook.md");

struct Recipe {
    title: String,
    rules: String,
    scene: String,
}

/// The recipes of the document: a heading, rules and a scene each.
fn recipes() -> Vec<Recipe> {
    let mut recipes = Vec::new();
    let mut title = String::new();
    let mut rules = String::new();
    let mut block: Option<(&str, String)> = None;
    for line in COOKBOOK.lines() {
        match &mut block {
            Some((_, text)) if line != "```" => {
                text.push_str(line);
                text.push('\n');
            }
            Some(_) => match block.take().expect("it is there") {
                ("lantern", text) => rules = text,
                (_, scene) => {
                    let rules = std::mem::take(&mut rules);
                    recipes.push(Recipe { title: title.clone(), rules, scene });
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
    let recipes = recipes();
    assert!(recipes.len() >= 30, "only {} recipes", recipes.len());
    let home = Home::new();
    for recipe in recipes {
        let called = rehearse(&home, &recipe.rules, &recipe.scene);
        assert_eq!(called.status, 0, "{}\n{}{}", recipe.title, called.stdout, called.stderr);
        let checked = home.call(&["check", "recipe.lantern"]);
        assert_eq!(checked.status, 0, "{}\n{}", recipe.title, checked.stdout);
    }
}

#[test]
fn no_scene_passes_once_the_steps_are_taken_out() {
    let home = Home::new();
    for recipe in recipes() {
        let rules = emptied(&recipe.rules);
        let called = rehearse(&home, &rules, &recipe.scene);
        let title = recipe.title;
        assert_eq!(called.status, 1, "{title}\n{rules}\n{}{}", called.stdout, called.stderr);
    }
}

#[test]
fn every_recipe_can_be_laid_out_recorded_and_drawn() {
    let home = Home::new();
    for recipe in recipes() {
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
