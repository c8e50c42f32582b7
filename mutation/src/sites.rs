//! Where a fault can be put into a source file, and the file with all of them in it.
//!
//! Every fault is compiled into the crate at once, behind a question for its number, so that the
//! crate is built once and each fault costs no more than a run of the tests.

use std::collections::BTreeSet;

use proc_macro2::{LineColumn, Span};
use quote::{ToTokens, quote};
use syn::spanned::Spanned;
use syn::visit_mut::{self, VisitMut};
use syn::{
    BinOp, Block, Expr, ExprBinary, ExprIf, ExprMethodCall, ExprUnary, ExprWhile, File, ImplItemFn,
    ItemConst, ItemFn, ItemStatic, ReturnType, Stmt, Type, UnOp, parse_quote,
};

/// A fault.
#[derive(Debug, Clone)]
pub struct Site {
    /// Its number, by which the built tests are told to have it.
    pub number: usize,
    /// The file, seen from the crate's folder.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// What is changed.
    pub change: String,
}

/// Collects the faults of files and rewrites their code.
#[derive(Debug, Default)]
pub struct Mutator {
    /// All faults so far.
    pub sites: Vec<Site>,
    left_out: BTreeSet<usize>,
    file: String,
}

impl Mutator {
    /// One that leaves these faults out, as they do not compile; they keep their numbers.
    pub fn without(left_out: BTreeSet<usize>) -> Mutator {
        Mutator { left_out, ..Mutator::default() }
    }

    /// The text of a file with every fault in it.
    ///
    /// # Errors
    /// When the file is no Rust.
    pub fn rewrite(&mut self, name: &str, text: &str) -> syn::Result<String> {
        let mut tree: File = syn::parse_file(text)?;
        self.file = name.to_owned();
        self.visit_file_mut(&mut tree);
        Ok(tree.to_token_stream().to_string())
    }

    fn add(&mut self, span: Span, change: impl Into<String>) -> usize {
        let LineColumn { line, .. } = span.start();
        let number = self.sites.len() + 1;
        let (file, change) = (self.file.clone(), change.into());
        self.sites.push(Site { number, file, line, change });
        number
    }

    /// A condition that may always hold, or never.
    fn condition(&mut self, condition: &mut Expr, what: &str) {
        if has_let(condition) {
            self.chain(condition);
            return;
        }
        let always = self.add(condition.span(), format!("{what}: always"));
        let never = self.add(condition.span(), format!("{what}: never"));
        self.visit_expr_mut(condition);
        *condition = parse_quote! {
            (crate::mutation::is(#always) || !crate::mutation::is(#never) && (#condition))
        };
    }

    /// Conditions joined by `&&`, some of which bind names.
    fn chain(&mut self, condition: &mut Expr) {
        match condition {
            Expr::Binary(ExprBinary { left, op: BinOp::And(_), right, .. }) => {
                self.chain(left);
                self.chain(right);
            }
            Expr::Let(binding) => self.visit_expr_mut(&mut binding.expr),
            other => self.condition(other, "condition of a chain"),
        }
    }

    fn function(&mut self, output: &ReturnType, block: &mut Block, span: Span) {
        let ReturnType::Type(_, kind) = output else { return };
        if !matches!(&**kind, Type::Path(path) if path.path.is_ident("bool")) {
            return;
        }
        let (yes, no) = (self.add(span, "gives true"), self.add(span, "gives false"));
        block.stmts.insert(
            0,
            parse_quote! {
                if crate::mutation::is(#yes) || crate::mutation::is(#no) {
                    return crate::mutation::is(#yes);
                }
            },
        );
    }
}

fn has_let(expr: &Expr) -> bool {
    match expr {
        Expr::Let(_) => true,
        Expr::Binary(ExprBinary { left, op: BinOp::And(_), right, .. }) => {
            has_let(left) || has_let(right)
        }
        _ => false,
    }
}

fn is_test(attributes: &[syn::Attribute]) -> bool {
    attributes.iter().any(|attribute| {
        attribute.path().is_ident("cfg") && attribute.to_token_stream().to_string().contains("test")
    })
}

/// The operator that stands for another in a fault.
fn swapped(operator: &BinOp) -> Option<BinOp> {
    Some(match operator {
        BinOp::Eq(_) => parse_quote!(!=),
        BinOp::Ne(_) => parse_quote!(==),
        BinOp::Lt(_) => parse_quote!(<=),
        BinOp::Le(_) => parse_quote!(<),
        BinOp::Gt(_) => parse_quote!(>=),
        BinOp::Ge(_) => parse_quote!(>),
        BinOp::And(_) => parse_quote!(||),
        BinOp::Or(_) => parse_quote!(&&),
        BinOp::Add(_) => parse_quote!(-),
        BinOp::Sub(_) => parse_quote!(+),
        BinOp::Mul(_) => parse_quote!(/),
        _ => return None,
    })
}

/// The method that stands for another in a fault, of the same type.
fn other_method(name: &str) -> Option<&'static str> {
    Some(match name {
        "any" => "all",
        "all" => "any",
        "min" => "max",
        "max" => "min",
        "is_some" => "is_none",
        "is_none" => "is_some",
        _ => return None,
    })
}

impl VisitMut for Mutator {
    fn visit_item_const_mut(&mut self, _: &mut ItemConst) {}

    fn visit_item_static_mut(&mut self, _: &mut ItemStatic) {}

    fn visit_item_mod_mut(&mut self, module: &mut syn::ItemMod) {
        if !is_test(&module.attrs) {
            visit_mut::visit_item_mod_mut(self, module);
        }
    }

    fn visit_item_fn_mut(&mut self, function: &mut ItemFn) {
        if function.sig.constness.is_none() && !is_test(&function.attrs) {
            visit_mut::visit_item_fn_mut(self, function);
            let span = function.sig.ident.span();
            self.function(&function.sig.output, &mut function.block, span);
        }
    }

    fn visit_impl_item_fn_mut(&mut self, function: &mut ImplItemFn) {
        if function.sig.constness.is_none() && !is_test(&function.attrs) {
            visit_mut::visit_impl_item_fn_mut(self, function);
            let span = function.sig.ident.span();
            self.function(&function.sig.output, &mut function.block, span);
        }
    }

    fn visit_block_mut(&mut self, block: &mut Block) {
        for statement in &mut block.stmts {
            let deleted = match &*statement {
                Stmt::Expr(Expr::MethodCall(_) | Expr::Call(_) | Expr::Assign(_), Some(_)) => true,
                Stmt::Expr(Expr::Binary(binary), Some(_)) => {
                    matches!(
                        binary.op,
                        BinOp::AddAssign(_)
                            | BinOp::SubAssign(_)
                            | BinOp::BitOrAssign(_)
                            | BinOp::BitAndAssign(_)
                    )
                }
                _ => false,
            };
            let span = statement.span();
            visit_mut::visit_stmt_mut(self, statement);
            if deleted {
                let number = self.add(span, "statement left out");
                if self.left_out.contains(&number) {
                    continue;
                }
                *statement = parse_quote! { if !crate::mutation::is(#number) { #statement } };
            }
        }
    }

    fn visit_expr_if_mut(&mut self, branch: &mut ExprIf) {
        self.condition(&mut branch.cond, "condition");
        self.visit_block_mut(&mut branch.then_branch);
        if let Some((_, other)) = &mut branch.else_branch {
            self.visit_expr_mut(other);
        }
    }

    fn visit_expr_while_mut(&mut self, branch: &mut ExprWhile) {
        // A loop whose condition always holds only shows that tests end.
        if has_let(&branch.cond) {
            self.chain(&mut branch.cond);
        } else {
            self.visit_expr_mut(&mut branch.cond);
        }
        self.visit_block_mut(&mut branch.body);
    }

    fn visit_arm_mut(&mut self, arm: &mut syn::Arm) {
        if let Some((_, guard)) = &mut arm.guard {
            self.condition(guard, "guard");
        }
        self.visit_expr_mut(&mut arm.body);
    }

    fn visit_expr_mut(&mut self, expr: &mut Expr) {
        match expr {
            Expr::Binary(binary) => {
                let span = binary.op.span();
                let other = swapped(&binary.op);
                self.visit_expr_mut(&mut binary.left);
                self.visit_expr_mut(&mut binary.right);
                if let Some(other) = other {
                    let (left, operator, right) = (&binary.left, &binary.op, &binary.right);
                    let change = format!("{} for {}", quote!(#other), quote!(#operator));
                    let number = self.add(span, change);
                    if self.left_out.contains(&number) {
                        return;
                    }
                    *expr = parse_quote! {
                        (if crate::mutation::is(#number) { #left #other #right }
                        else { #left #operator #right })
                    };
                }
            }
            Expr::Unary(ExprUnary { op: UnOp::Not(not), expr: inner, .. }) => {
                let span = not.span();
                self.visit_expr_mut(inner);
                let number = self.add(span, "without `!`");
                if self.left_out.contains(&number) {
                    return;
                }
                *expr = parse_quote! {
                    (if crate::mutation::is(#number) { #inner } else { !#inner })
                };
            }
            Expr::MethodCall(call) => {
                visit_mut::visit_expr_method_call_mut(self, call);
                let ExprMethodCall { receiver, method, args, turbofish, .. } = call;
                let arguments = usize::from(matches!(method.to_string().as_str(), "any" | "all"));
                let other = other_method(&method.to_string()).filter(|_| args.len() >= arguments);
                if let Some(other) = other {
                    let number = self.add(method.span(), format!("{other} for {method}"));
                    if self.left_out.contains(&number) {
                        return;
                    }
                    let other = syn::Ident::new(other, method.span());
                    *expr = parse_quote! {
                        (if crate::mutation::is(#number) { #receiver.#other #turbofish(#args) }
                        else { #receiver.#method #turbofish(#args) })
                    };
                }
            }
            Expr::Macro(invoked) if invoked.mac.path.is_ident("matches") => {
                let number = self.add(invoked.mac.path.span(), "matches turned round");
                *expr = parse_quote! { (crate::mutation::is(#number) != #invoked) };
            }
            Expr::Const(_) | Expr::Repeat(_) => {}
            other => visit_mut::visit_expr_mut(self, other),
        }
    }
}

/// The module that answers which fault is on.
pub fn switch() -> String {
    let module = quote! {
        //! Which fault is on, by the environment.
        pub(crate) fn is(number: usize) -> bool {
            static ON: std::sync::LazyLock<usize> = std::sync::LazyLock::new(|| {
                std::env::var("MUTANT").ok().and_then(|number| number.parse().ok()).unwrap_or(0)
            });
            *ON == number
        }
    };
    module.to_string()
}
