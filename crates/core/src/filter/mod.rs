//! Conditions over a node, in CEL, fenced: bounded in size, with closed names, and undecidable where a node did not
//! report what they ask for.
//!
//! Compiling needs a deep stack: callers use a thread with a large one.

mod items;
mod node_inputs;
mod node_view;
mod plain;
mod record;
mod record_lists;
mod walk;

pub use items::{Items, MAX_ITEMS};
pub use node_inputs::{InputCache, Keys, NodeInputs};
use node_view::Sample;
pub use node_view::{About, NodeView, STABLE_FIELDS, StableField};
pub use plain::{Comparison, Field, Plain, Scalar};
pub use record::{RecordFilter, RecordOrder};
pub use record_lists::*;

use cel::{Context, Env, Program, Value as CelValue};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::{Arc, LazyLock};
use walk::{Names, Uses, Walk};

/// The longest condition, in bytes.
pub const MAX_SOURCE_BYTES: usize = 2 * 1024;
/// What filters of lists may ask of a node as it is now, below `node`.
pub const LISTED_FIELDS: [&str; 8] =
    ["status", "last_contact", "mode", "stage", "groups", "releases", "problems", "open_episodes"];
const MAX_SYNTAX_NODES: usize = 500;
const MAX_BRACKET_DEPTH: usize = 32;
/// The most that an evaluation may make, in bytes, if every turn of its loops made all that it is given again.
const MAX_MADE: usize = 256 * 1024 * 1024;
/// The most parts of an expression that one evaluation goes through, over all turns of its loops.
const MAX_STEPS: u64 = 1_000_000;
/// The same of a group's filter, which is evaluated for every node at every change.
const MAX_STEPS_OF_GROUP: u64 = 10_000;
/// How many labels a node is taken to have before it is known.
const DEFAULT_LABELS: usize = 20;

/// The functions of CEL, made once.
static STANDARD: LazyLock<Arc<Env>> = LazyLock::new(|| Arc::new(Env::stdlib()));

/// A condition that was read and whose names are all known.
#[derive(Debug)]
pub struct Condition(Expression);

/// An expression that was read and whose names are all known.
#[derive(Debug)]
struct Expression {
    program: Program,
    uses: Uses,
}

/// The result of an expression on one node.
enum Evaluated {
    Value(CelValue),
    /// The node did not report these fields.
    Undecidable(Vec<String>),
}

/// What a condition says of one node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// It holds.
    Yes,
    /// It does not.
    No,
    /// The node did not report these fields.
    Undecidable(Vec<String>),
}

/// Why a text is no condition, with the part that is wrong.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ConditionError {
    /// What happened, in one sentence.
    pub message: String,
    /// The part of the condition, in bytes.
    pub range: Range<usize>,
    /// What to do.
    pub hint: Option<String>,
    /// Whether it is about an unknown name in a condition.
    pub about_a_name: bool,
}

impl Condition {
    /// Reads a filter of a list of nodes: it may also ask for how they are now, [`LISTED_FIELDS`].
    ///
    /// # Errors
    ///
    /// Returns everything that is wrong with it.
    pub fn parse_for_list(source: &str) -> Result<Self, Vec<ConditionError>> {
        Expression::parse(source, Names::OfNode { parameters: &[], is_listed: true }).map(Self)
    }

    /// Reads the filter of a group.
    ///
    /// # Errors
    ///
    /// Returns everything that is wrong with it, also that it takes too long for every node at every change.
    pub fn parse_for_group(source: &str) -> Result<Self, Vec<ConditionError>> {
        let condition = Self::parse(source, &[])?;
        let steps = condition.0.steps(condition.0.longest(DEFAULT_LABELS));
        if steps.is_none_or(|steps| steps > MAX_STEPS_OF_GROUP) {
            let mut error = ConditionError::whole(
                "the filter takes too long: it is evaluated for every node at every change".into(),
                source.len(),
            );
            error.hint = Some("compare labels with `==` and `in` instead of iterating over them, and use `matches` outside of loops".to_owned());
            return Err(vec![error]);
        }
        Ok(condition)
    }

    /// Reads a condition whose `params` are those declared.
    ///
    /// # Errors
    ///
    /// Returns everything that is wrong with it: syntax, size, names that are not known.
    pub fn parse(source: &str, parameters: &[&str]) -> Result<Self, Vec<ConditionError>> {
        Expression::parse(source, Names::OfNode { parameters, is_listed: false }).map(Self)
    }

    /// Returns what the condition says of a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be evaluated although the node reported all that it asks for.
    pub fn holds(&self, view: &NodeView, params: &Value) -> Result<Answer, ConditionError> {
        self.holds_of(view, params, json!({ "name": view.name }))
    }

    /// Returns what a filter of a list says of a node; `now` has the [`LISTED_FIELDS`].
    ///
    /// # Errors
    ///
    /// Returns why it cannot be evaluated although the node reported all that it asks for.
    pub fn holds_now(&self, view: &NodeView, mut now: Value) -> Result<Answer, ConditionError> {
        now["name"] = view.name.clone().into();
        self.holds_of(view, &Value::Null, now)
    }

    fn holds_of(&self, view: &NodeView, params: &Value, node: Value) -> Result<Answer, ConditionError> {
        match self.0.evaluate(view, params, node)? {
            Evaluated::Value(CelValue::Bool(true)) => Ok(Answer::Yes),
            Evaluated::Value(CelValue::Bool(false)) => Ok(Answer::No),
            Evaluated::Value(_) => {
                Err(ConditionError::whole("the condition does not evaluate to `true` or `false`".into(), 0))
            }
            Evaluated::Undecidable(missing) => Ok(Answer::Undecidable(missing)),
        }
    }

    /// Returns the condition as parts that a database can decide too, if it is made of nothing else.
    pub fn plain(&self) -> Option<Plain> {
        let uses = &self.0.uses;
        // Of a label that is inputs for, the value is an error if it is missing, and no empty text.
        let is_also_read = |label: &String| uses.labels_read.contains(label);
        if uses.labels_asked_for.iter().any(is_also_read) {
            None
        } else {
            plain::plain(self.0.program.expression())
        }
    }

    /// Returns what the condition asks of a node.
    pub fn inputs(&self) -> NodeInputs {
        self.0.inputs()
    }

    /// Returns the labels that the condition uses.
    pub fn labels(&self) -> impl Iterator<Item = &str> {
        self.0.uses.labels.iter().map(String::as_str)
    }

    /// Returns the parameters that the condition uses.
    pub fn parameters(&self) -> impl Iterator<Item = &str> {
        self.0.parameters()
    }
}

impl ConditionError {
    fn whole(message: String, len: usize) -> Self {
        Self { message, range: 0..len, hint: None, about_a_name: false }
    }
}

impl Expression {
    fn parse(source: &str, names: Names<'_>) -> Result<Self, Vec<ConditionError>> {
        let whole = |message: String| vec![ConditionError::whole(message, source.len())];
        if source.len() > MAX_SOURCE_BYTES {
            return Err(whole(format!(
                "the condition has {} bytes, at most {MAX_SOURCE_BYTES} are read",
                source.len()
            )));
        }
        if bracket_depth(source) > MAX_BRACKET_DEPTH {
            return Err(whole(format!("the condition is nested deeper than {MAX_BRACKET_DEPTH}")));
        }
        let program = Program::compile(source).map_err(|errors| {
            errors.errors.iter().map(|error| syntax_error(source, error)).collect::<Vec<_>>()
        })?;
        let mut walk = Walk {
            source,
            info: program.source_info(),
            names,
            bound: Vec::new(),
            nodes: 0,
            depth: 0,
            errors: Vec::new(),
            uses: Uses::default(),
        };
        walk.expression(program.expression());
        let Walk { nodes, mut errors, uses, .. } = walk;
        if nodes > MAX_SYNTAX_NODES {
            errors.extend(whole(format!(
                "the condition has {nodes} parts, at most {MAX_SYNTAX_NODES} are evaluated"
            )));
        }
        if !errors.is_empty() {
            return Err(errors);
        }
        Ok(Self { program, uses })
    }

    fn inputs(&self) -> NodeInputs {
        let keys =
            |all: bool, some: &BTreeSet<String>| if all { Keys::All } else { Keys::Some(some.clone()) };
        let Uses { name, all_labels, labels, all_about, about, .. } = &self.uses;
        NodeInputs { name: *name, labels: keys(*all_labels, labels), about: keys(*all_about, about) }
    }

    fn parameters(&self) -> impl Iterator<Item = &str> {
        self.uses.params.iter().map(String::as_str)
    }

    /// Returns the most items that a loop may go over, if what it is given has at most `given`.
    fn longest(&self, given: usize) -> usize {
        self.uses.longest_list.max(given).max(1).saturating_mul(self.uses.additions + 1)
    }

    /// Returns the most parts that are gone through; none if they cannot be counted.
    fn steps(&self, longest: usize) -> Option<u64> {
        u64::try_from(longest).ok()?.checked_pow(self.uses.depth)?.checked_mul(self.uses.weight)
    }

    /// Refuses what could go through more than [`MAX_STEPS`] or make more than [`MAX_MADE`] out of what it is given, of which
    /// the longest list has so many items, and which has so many bytes: evaluation itself has no such bound and cannot be
    /// interrupted.
    fn check_volume(&self, longest: usize, bytes: usize) -> Result<(), ConditionError> {
        let longest = self.longest(longest);
        if self.steps(longest).is_none_or(|steps| steps > MAX_STEPS) {
            let message = format!(
                "its loops have up to {longest} items, {} deep: that exceeds the limit",
                self.uses.depth
            );
            return Err(ConditionError::whole(message, 0));
        }
        let bytes = bytes.max(MAX_SOURCE_BYTES);
        let volume = longest.checked_pow(self.uses.depth).and_then(|turns| turns.checked_mul(bytes));
        if volume.is_none_or(|volume| volume > MAX_MADE) {
            let message = format!(
                "its loops have {longest} items, {} deep, with {bytes} bytes: that exceeds the limit",
                self.uses.depth
            );
            return Err(ConditionError::whole(message, 0));
        }
        Ok(())
    }

    /// The same of a node and parameters.
    fn check_volume_of(&self, view: &NodeView, params: &Value, node: &Value) -> Result<(), ConditionError> {
        let used = || self.uses.params.iter().filter_map(|name| params.get(name));
        let of_node = node.as_object().into_iter().flat_map(serde_json::Map::values);
        let lengths = used().chain(of_node).map(items_of).chain([view.labels.len(), STABLE_FIELDS.len()]);
        self.check_volume(lengths.max().unwrap_or(1), used().map(|value| value.to_string().len()).sum())
    }

    fn execute(
        &self,
        given: impl IntoIterator<Item = (&'static str, Value)>,
    ) -> Result<CelValue, cel::ExecutionError> {
        let mut context = Context::with_env(STANDARD.clone());
        for (name, value) in given {
            context.add_variable_from_value(name, to_cel(&value));
        }
        self.program.execute(&context)
    }

    fn evaluate(&self, view: &NodeView, params: &Value, node: Value) -> Result<Evaluated, ConditionError> {
        self.check_volume_of(view, params, &node)?;
        let mut labels: BTreeMap<String, String> = view.labels.clone();
        for label in self.uses.labels.difference(&self.uses.labels_asked_for) {
            labels.entry(label.clone()).or_default();
        }
        let given = [
            ("labels", json!(labels)),
            ("about", view.about.nested()),
            ("params", params.clone()),
            ("node", node),
        ];
        match self.execute(given) {
            Ok(value) => Ok(Evaluated::Value(value)),
            Err(error) => {
                let missing: Vec<String> = self
                    .uses
                    .about
                    .iter()
                    .filter(|field| view.about.get(field).is_none())
                    .map(|field| format!("about.{field}"))
                    .collect();
                if missing.is_empty() {
                    Err(ConditionError::whole(error.to_string(), 0))
                } else {
                    Ok(Evaluated::Undecidable(missing))
                }
            }
        }
    }
}

/// How many items a list or a map has.
fn items_of(value: &Value) -> usize {
    let of_map = || value.as_object().map(serde_json::Map::len);
    value.as_array().map(Vec::len).or_else(of_map).unwrap_or(0)
}

/// Converts JSON, with every whole number as CEL's int, as the schema of stable fields has it.
fn to_cel(value: &Value) -> CelValue {
    match value {
        Value::Null => CelValue::Null,
        Value::Bool(boolean) => CelValue::Bool(*boolean),
        Value::Number(number) => {
            number.as_i64().map_or_else(|| CelValue::Float(number.as_f64().unwrap_or(0.0)), CelValue::Int)
        }
        Value::String(text) => CelValue::String(std::sync::Arc::new(text.clone())),
        Value::Array(items) => CelValue::List(std::sync::Arc::new(items.iter().map(to_cel).collect())),
        Value::Object(map) => CelValue::from(
            map.iter()
                .map(|(key, value)| (key.clone(), to_cel(value)))
                .collect::<std::collections::HashMap<String, CelValue>>(),
        ),
    }
}

fn bracket_depth(source: &str) -> usize {
    let mut depth = 0usize;
    let mut deepest = 0;
    for c in source.chars() {
        match c {
            '(' | '[' | '{' => depth += 1,
            ')' | ']' | '}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        deepest = deepest.max(depth);
    }
    deepest
}

fn syntax_error(source: &str, error: &cel::ParseError) -> ConditionError {
    let (line, column) = error.pos;
    let line_start: usize = source
        .split_inclusive('\n')
        .take(usize::try_from(line).unwrap_or(1).saturating_sub(1))
        .map(str::len)
        .sum();
    let start = (line_start + usize::try_from(column).unwrap_or(1).saturating_sub(1)).min(source.len());
    let message = error.msg.strip_prefix("Syntax error: ").unwrap_or(&error.msg);
    let plain = message.split(" expecting ").next().unwrap_or(message).replace("'<EOF>'", "the end");
    let plain = plain
        .replace("extraneous input", "did not expect")
        .replace("mismatched input", "did not expect")
        .replace("no viable alternative at input", "cannot read");
    ConditionError {
        message: format!("{} in the condition", plain.replace('\'', "`")),
        range: start..start + 1,
        hint: None,
        about_a_name: false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kiosk() -> NodeView {
        NodeView {
            name: "kiosk-auken-1".into(),
            labels: BTreeMap::from([("role".into(), "kiosk".into()), ("site".into(), "auken".into())]),
            about: About::new([
                ("os.family".to_owned(), json!("debian")),
                ("cpu.count".to_owned(), json!(4)),
            ]),
        }
    }

    fn answer(source: &str) -> Result<Answer, ConditionError> {
        Condition::parse(source, &["idle"]).unwrap().holds(&kiosk(), &json!({ "idle": 90 }))
    }

    #[test]
    fn conditions_are_answered_for_a_node() {
        for (source, expected) in [
            ("labels.role == 'kiosk' && about.cpu.count > 2", Answer::Yes),
            ("labels.ship == ''", Answer::Yes),
            ("labels['ship'] == ''", Answer::Yes),
            ("has(labels.ship)", Answer::No),
            ("node.name.startsWith('kiosk-')", Answer::Yes),
            ("params.idle > 100", Answer::No),
            ("labels.site in ['brisk', 'auken']", Answer::Yes),
            ("['a', 'b'].exists(l, l == labels.site)", Answer::No),
            ("about.arch == 'amd64'", Answer::Undecidable(vec!["about.arch".into()])),
            ("about.arch == 'amd64' || labels.role == 'kiosk'", Answer::Yes),
            ("labels.role == 'gate' && about.arch == 'amd64'", Answer::No),
        ] {
            assert_eq!(answer(source).unwrap(), expected, "{source}");
        }
    }

    #[test]
    fn what_is_asked_of_the_node_is_known_before_it_is_asked() {
        let some = |keys: &[&str]| Keys::Some(keys.iter().map(|key| (*key).to_owned()).collect());
        for (source, name, labels, about) in [
            ("true || params.idle > 2", false, some(&[]), some(&[])),
            (
                "labels.site == 'auken' || labels['ship'] == 'tern' || has(labels.role)",
                false,
                some(&["role", "ship", "site"]),
                some(&[]),
            ),
            ("labels.all(key, key != 'site')", false, Keys::All, some(&[])),
            ("'site' in labels && labels.site == 'auken'", false, Keys::All, some(&[])),
            ("labels[params.idle] == 'auken'", false, Keys::All, some(&[])),
            ("about.cpu.count > 2", false, some(&[]), some(&["cpu.count"])),
            ("has(about.os.name) || 'os' in about", false, some(&[]), Keys::All),
            ("node.name == 'gate-auken-1'", true, some(&[]), some(&[])),
            ("'name' in node", true, some(&[]), some(&[])),
            ("[1].exists(labels, labels == 1)", false, some(&[]), some(&[])),
        ] {
            let inputs = Condition::parse(source, &["idle"]).unwrap().inputs();
            assert_eq!(inputs, NodeInputs { name, labels, about }, "{source}");
        }
    }

    #[test]
    fn names_are_closed_and_the_nearest_is_offered() {
        for (source, message, marked, hint) in [
            (
                "lables.role == 'x'",
                "unknown name `lables` in a condition",
                "lables.role",
                "did you mean `labels`?",
            ),
            (
                "about.os.famly == 'x'",
                "`about.os.famly` is not a stable field of a node",
                "about.os.famly",
                "did you mean `about.os.family`?",
            ),
            (
                "true && params.idel > 2",
                "the baseline declares no parameter `idel`",
                "params.idel",
                "did you mean `params.idle`?",
            ),
            ("node.ip == ''", "`node.ip` is not known", "node.ip", "the node is known by node.name"),
        ] {
            let errors = Condition::parse(source, &["idle"]).err().unwrap();
            assert_eq!(
                (errors[0].message.as_str(), &source[errors[0].range.clone()], errors[0].hint.as_deref()),
                (message, marked, Some(hint))
            );
        }
    }

    #[test]
    fn a_filter_of_a_list_asks_for_how_nodes_are_now() {
        let now = json!({ "status": "drift_found", "groups": ["everyone", "kiosks"] });
        for (source, expected) in [
            ("node.status == 'drift_found'", Answer::Yes),
            ("'gates' in node.groups", Answer::No),
            ("node.name == 'kiosk-auken-1'", Answer::Yes),
        ] {
            assert_eq!(
                Condition::parse_for_list(source).unwrap().holds_now(&kiosk(), now.clone()).unwrap(),
                expected,
                "{source}"
            );
        }
        let errors = Condition::parse_for_list("node.statsu == 'failed'").err().unwrap();
        assert_eq!(errors[0].hint.as_deref(), Some("did you mean `node.status`?"));
        assert!(
            Condition::parse("node.status == 'failed'", &[]).is_err(),
            "a condition of a document does not depend on how things go"
        );
    }

    #[test]
    fn syntax_errors_stand_where_they_are() {
        let source = "labels.role == 'x'\n  && && true";
        let errors = Condition::parse(source, &[]).err().unwrap();
        assert_eq!(errors[0].message, "did not expect `&&` in the condition");
        assert_eq!(errors[0].range.start, source.rfind("&&").unwrap());
    }

    #[test]
    fn hostile_conditions_are_refused_before_they_are_compiled_or_run() {
        let big = "x".repeat(MAX_SOURCE_BYTES + 1);
        let deep = format!("{}true{}", "(".repeat(200), ")".repeat(200));
        let wide = format!("[{}].all(x, x)", vec!["true"; 400].join(","));
        let loops = "[1].all(a, [1].all(b, [1].all(c, true)))";
        for source in [big.as_str(), &deep, &wide.replace("true", "1==1"), loops] {
            assert!(Condition::parse(source, &[]).is_err(), "{source}");
        }
    }

    #[test]
    fn patterns_are_written_out_and_small() {
        assert_eq!(answer("node.name.matches('^kiosk-[a-z]+-[0-9]$')").unwrap(), Answer::Yes);
        for (source, message) in [
            ("node.name.matches(labels.role)", "the pattern of `matches` is not written out"),
            ("matches(node.name, labels.role)", "the pattern of `matches` is not written out"),
            ("node.name.matches('(((a{100}){100}){100})')", "takes more than 65536 bytes"),
            ("node.name.matches('(a')", "unclosed group"),
        ] {
            let errors = Condition::parse(source, &[]).err().unwrap();
            assert!(errors[0].message.contains(message), "{source}: {}", errors[0].message);
        }
    }

    #[test]
    fn what_takes_too_long_is_refused_before_it_is_evaluated() {
        let nested = |length: usize| {
            let condition =
                Condition::parse("params.idle.all(a, params.idle.exists(b, a == b))", &["idle"]).unwrap();
            condition.holds(&kiosk(), &json!({ "idle": (0..length).collect::<Vec<_>>() }))
        };
        assert_eq!(nested(100).unwrap(), Answer::Yes);
        assert!(nested(1_000).unwrap_err().message.contains("exceeds the limit"));
        let grown = format!(
            "({}).all(a, ({}).exists(b, a == b))",
            ["params.idle"; 40].join(" + "),
            ["params.idle"; 40].join(" + ")
        );
        let grown = Condition::parse(&grown, &["idle"]).unwrap();
        assert!(
            grown.holds(&kiosk(), &json!({ "idle": (0..50).collect::<Vec<_>>() })).is_err(),
            "lists that grow are counted as they grow"
        );
    }

    #[test]
    fn a_filter_of_a_group_is_cheap() {
        for source in
            ["labels.role == 'kiosk'", "node.name.matches('^kiosk-')", "labels.exists(l, l.startsWith('x-'))"]
        {
            assert!(Condition::parse_for_group(source).is_ok(), "{source}");
        }
        for source in [
            "labels.exists(l, l.matches('^x'))",
            "labels.all(a, labels.exists(b, a == b && labels.site == 'auken' || b == 'site'))",
        ] {
            let errors = Condition::parse_for_group(source).err().unwrap();
            assert!(errors[0].message.contains("takes too long"), "{source}: {}", errors[0].message);
        }
    }
}
