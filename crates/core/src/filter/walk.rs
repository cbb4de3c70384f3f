//! The names and the size of a condition, seen by walking through its syntax.

use super::record_lists::{FieldType, RecordList};
use super::{ConditionError, LISTED_FIELDS, STABLE_FIELDS};
use crate::nearest::nearest_word;
use cel::common::ast::{EntryExpr, Expr, IdedExpr, LiteralValue};
use std::collections::BTreeSet;

const MAX_COMPREHENSION_DEPTH: usize = 2;
const MAX_LIST: usize = 1_000;
/// The longest pattern of `matches`, in bytes, and the most that it may take when it is compiled.
const MAX_PATTERN: usize = 200;
const MAX_COMPILED_PATTERN: usize = 64 * 1024;
/// A pattern is compiled whenever it is used: that takes as long as this many parts of a condition.
const PATTERN_WEIGHT: u64 = 500;

/// The names that a condition uses.
#[derive(Debug, Default)]
pub(super) struct Uses {
    /// Whether it uses the node's name, all of its labels, or all that it found out about itself.
    pub name: bool,
    pub all_labels: bool,
    pub all_about: bool,
    pub about: BTreeSet<String>,
    pub labels: BTreeSet<String>,
    pub labels_asked_for: BTreeSet<String>,
    pub labels_read: BTreeSet<String>,
    pub params: BTreeSet<String>,
    /// How deep loops are nested.
    pub depth: u32,
    /// The length of the longest list that is written out.
    pub longest_list: usize,
    /// How often something is added to something else: two lists come to a longer one.
    pub additions: usize,
    /// How long one turn of all loops takes, in parts of the condition.
    pub weight: u64,
}

/// Loops such as `map` add each item to what they come to: that has as many items as they have turns.
fn is_of_a_loop(added: &[IdedExpr]) -> bool {
    matches!(added.first(), Some(IdedExpr { expr: Expr::Ident(name), .. }) if name.starts_with('@'))
}

/// The names that an expression may use.
#[derive(Clone, Copy)]
pub(super) enum Names<'a> {
    /// Those of a node, and these parameters; in a filter of a list of nodes also how they are now.
    OfNode { parameters: &'a [&'a str], is_listed: bool },
    /// Those of one record of a list.
    OfRecord(&'static RecordList),
}

/// A walk through one condition.
pub(super) struct Walk<'a> {
    pub source: &'a str,
    pub info: &'a cel::common::ast::SourceInfo,
    pub names: Names<'a>,
    pub bound: Vec<String>,
    pub nodes: usize,
    pub depth: usize,
    pub errors: Vec<ConditionError>,
    pub uses: Uses,
}

impl Walk<'_> {
    pub fn expression(&mut self, expression: &IdedExpr) {
        self.nodes += 1;
        self.uses.weight += 1;
        match &expression.expr {
            Expr::Ident(name) => self.name(expression, name),
            Expr::Select(_) => self.select(expression),
            Expr::Call(call) => {
                if call.func_name == "_[_]" && self.labels_by_key(&call.args) {
                    return;
                }
                match call.func_name.as_str() {
                    "matches" => self.pattern(expression, call.args.last()),
                    "_+_" if !is_of_a_loop(&call.args) => self.uses.additions += 1,
                    _ => {}
                }
                call.target.iter().for_each(|target| self.expression(target));
                call.args.iter().for_each(|argument| self.expression(argument));
            }
            Expr::List(list) => {
                self.uses.longest_list = self.uses.longest_list.max(list.elements.len());
                if list.elements.len() > MAX_LIST {
                    self.error(expression, format!("the list has more than {MAX_LIST} items"), None, false);
                }
                list.elements.iter().for_each(|item| self.expression(item));
            }
            Expr::Map(map) => map.entries.iter().for_each(|entry| {
                if let EntryExpr::MapEntry(entry) = &entry.expr {
                    self.expression(&entry.key);
                    self.expression(&entry.value);
                }
            }),
            Expr::Comprehension(comprehension) => {
                self.expression(&comprehension.iter_range);
                self.depth += 1;
                self.uses.depth = self.uses.depth.max(u32::try_from(self.depth).unwrap_or(u32::MAX));
                if self.depth > MAX_COMPREHENSION_DEPTH {
                    self.error(
                        expression,
                        format!("loops are nested deeper than {MAX_COMPREHENSION_DEPTH}"),
                        None,
                        false,
                    );
                }
                let before = self.bound.len();
                self.bound.push(comprehension.iter_var.clone());
                self.bound.extend(comprehension.iter_var2.clone());
                self.bound.push(comprehension.accu_var.clone());
                for part in [
                    &comprehension.accu_init,
                    &comprehension.loop_cond,
                    &comprehension.loop_step,
                    &comprehension.result,
                ] {
                    self.expression(part);
                }
                self.bound.truncate(before);
                self.depth -= 1;
            }
            _ => {}
        }
    }

    /// A pattern is known and small before it is used: it is compiled for every node.
    fn pattern(&mut self, expression: &IdedExpr, pattern: Option<&IdedExpr>) {
        self.uses.weight += PATTERN_WEIGHT;
        let Some(IdedExpr { expr: Expr::Literal(LiteralValue::String(pattern)), .. }) = pattern else {
            let hint = "write it as a text: node.name.matches(\"^kiosk-\")".to_owned();
            return self.error(
                expression,
                "the pattern of `matches` is not written out".to_owned(),
                Some(hint),
                false,
            );
        };
        if pattern.inner().len() > MAX_PATTERN {
            return self.error(
                expression,
                format!("the pattern of `matches` has more than {MAX_PATTERN} bytes"),
                None,
                false,
            );
        }
        if let Err(error) = regex::RegexBuilder::new(pattern.inner()).size_limit(MAX_COMPILED_PATTERN).build()
        {
            let why = match error {
                regex::Error::CompiledTooBig(_) => {
                    format!("takes more than {MAX_COMPILED_PATTERN} bytes when it is compiled")
                }
                error => error
                    .to_string()
                    .lines()
                    .last()
                    .unwrap_or("it cannot be read")
                    .trim_start_matches("error: ")
                    .to_owned(),
            };
            self.error(expression, format!("the pattern of `matches` cannot be used: {why}"), None, false);
        }
    }

    /// `labels["key"]` reads like `labels.key`.
    fn labels_by_key(&mut self, arguments: &[IdedExpr]) -> bool {
        if let Names::OfRecord(_) = self.names {
            if let [_, IdedExpr { expr: Expr::Literal(LiteralValue::String(key)), .. }] = arguments {
                self.uses.labels.insert(key.inner().to_owned());
            }
            return false;
        }
        if let [
            IdedExpr { expr: Expr::Ident(root), .. },
            IdedExpr { expr: Expr::Literal(LiteralValue::String(key)), .. },
        ] = arguments
            && root == "labels"
        {
            self.uses.labels.insert(key.inner().to_owned());
            self.uses.labels_read.insert(key.inner().to_owned());
            return true;
        }
        false
    }

    fn name(&mut self, expression: &IdedExpr, name: &str) {
        const ROOTS: [&str; 4] = ["labels", "about", "params", "node"];
        if self.bound.iter().any(|bound| bound == name) || name.starts_with('@') {
            return;
        }
        if let Names::OfRecord(list) = self.names {
            return self.name_in_list(expression, name, list);
        }
        match name {
            "labels" => return self.uses.all_labels = true,
            "about" => return self.uses.all_about = true,
            "node" => return self.uses.name = true,
            "params" => return,
            _ => {}
        }
        let hint = nearest_word(name, ROOTS).map_or_else(
            || "conditions can use labels, about, params and node".to_owned(),
            |word| format!("did you mean `{word}`?"),
        );
        self.error(expression, format!("unknown name `{name}` in a condition"), Some(hint), true);
    }

    fn select(&mut self, expression: &IdedExpr) {
        let mut path = Vec::new();
        let mut tested = false;
        let mut at = expression;
        while let Expr::Select(select) = &at.expr {
            path.push(select.field.as_str());
            tested |= select.test;
            at = &select.operand;
            self.nodes += 1;
        }
        path.reverse();
        match &at.expr {
            Expr::Ident(root)
                if let Names::OfRecord(list) = self.names
                    && root == list.name =>
            {
                self.field(expression, &path, list);
            }
            Expr::Ident(root) if self.is_of_node() && root == "labels" => {
                let label = path[0].to_owned();
                let how = if tested { &mut self.uses.labels_asked_for } else { &mut self.uses.labels_read };
                how.insert(label.clone());
                self.uses.labels.insert(label);
            }
            Expr::Ident(root) if self.is_of_node() && root == "about" => {
                self.about(expression, &path.join("."));
            }
            Expr::Ident(root)
                if let Names::OfNode { parameters, .. } = self.names
                    && root == "params" =>
            {
                if parameters.contains(&path[0]) {
                    self.uses.params.insert(path[0].to_owned());
                } else {
                    let hint = nearest_word(path[0], parameters.iter().copied())
                        .map(|word| format!("did you mean `params.{word}`?"));
                    self.error(
                        expression,
                        format!("the baseline declares no parameter `{}`", path[0]),
                        hint,
                        true,
                    );
                }
            }
            Expr::Ident(root)
                if let Names::OfNode { is_listed, .. } = self.names
                    && root == "node" =>
            {
                self.uses.name = true;
                let is_of_list = is_listed && path.len() == 1 && LISTED_FIELDS.contains(&path[0]);
                if path != ["name"] && !is_of_list {
                    let hint =
                        match nearest_word(path[0], LISTED_FIELDS.iter().copied()).filter(|_| is_listed) {
                            Some(near) => format!("did you mean `node.{near}`?"),
                            None if is_listed => {
                                format!("a list knows node.name, node.{}", LISTED_FIELDS.join(", node."))
                            }
                            None => "the node is known by node.name".to_owned(),
                        };
                    self.error(
                        expression,
                        format!("`node.{}` is not known", path.join(".")),
                        Some(hint),
                        true,
                    );
                }
            }
            _ => self.expression(at),
        }
    }

    fn is_of_node(&self) -> bool {
        matches!(self.names, Names::OfNode { .. })
    }

    fn name_in_list(&mut self, expression: &IdedExpr, name: &str, list: &RecordList) {
        let (message, hint) = if name == list.name {
            (format!("`{name}` is a record of the list and has no value itself"), list.examples())
        } else {
            let near = nearest_word(name, [list.name]);
            let hint = near.map_or_else(|| list.examples(), |near| format!("did you mean `{near}`?"));
            (format!("unknown name `{name}` in a filter of this list"), hint)
        };
        self.error(expression, message, Some(hint), true);
    }

    /// A field of a record, or a key of one that holds labels.
    fn field(&mut self, expression: &IdedExpr, path: &[&str], list: &RecordList) {
        let found = list.fields.iter().find(|field| field.name == path[0]);
        let is_known = found.is_some_and(|field| match field.field_type {
            FieldType::Labels => path.len() <= 2,
            _ => path.len() == 1,
        });
        if is_known {
            self.uses.labels.extend(path.get(1).map(|&label| label.to_owned()));
            return;
        }
        let near =
            nearest_word(path[0], list.fields.iter().map(|field| field.name)).filter(|_| found.is_none());
        let hint =
            near.map_or_else(|| list.examples(), |near| format!("did you mean `{}.{near}`?", list.name));
        self.error(expression, format!("`{}.{}` is not known", list.name, path.join(".")), Some(hint), true);
    }

    fn about(&mut self, expression: &IdedExpr, field: &str) {
        if STABLE_FIELDS.iter().any(|known| known.path == field) {
            self.uses.about.insert(field.to_owned());
            return;
        }
        let known = STABLE_FIELDS.iter().map(|known| known.path);
        let hint = match nearest_word(field, known.clone()) {
            Some(near) => format!("did you mean `about.{near}`?"),
            None => format!(
                "stable fields are {}",
                known.map(|path| format!("about.{path}")).collect::<Vec<_>>().join(", ")
            ),
        };
        self.error(expression, format!("`about.{field}` is not a stable field of a node"), Some(hint), true);
    }

    fn error(&mut self, expression: &IdedExpr, message: String, hint: Option<String>, about_a_name: bool) {
        // CEL counts characters, places count bytes; a select is known by its dot, so the name before it is added.
        let at = self.info.offset_for(expression.id).map_or(0, |(start, _)| start as usize);
        let byte = self.source.char_indices().nth(at).map_or(self.source.len(), |(byte, _)| byte);
        let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
        let start = self.source[..byte].rfind(|c: char| !is_word(c)).map_or(0, |before| before + 1);
        let end =
            self.source[byte..].find(|c: char| !is_word(c)).map_or(self.source.len(), |after| byte + after);
        self.errors.push(ConditionError { message, range: start..end.max(start + 1), hint, about_a_name });
    }
}
