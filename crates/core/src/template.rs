//! Renders texts and files of a kit: strict, without escaping, bounded, and blind to everything outside the kit.

use crate::document::KitFiles;
use crate::filter::{NodeInputs, NodeView};
use minijinja::syntax::SyntaxConfig;
use minijinja::value::{Enumerator, Object, Serde, Value as JinjaValue, merge_maps};
use minijinja::{AutoEscape, Environment, Error, ErrorKind, UndefinedBehavior};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::io;
use std::ops::Range;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// The largest rendered text, in bytes.
pub const MAX_OUTPUT_BYTES: usize = 1024 * 1024;
const MAX_STEPS: u64 = 1_000_000;
/// What the name of a text's template begins with, before the text itself: by it the template is kept for the next node.
const TEXT: &str = "<text>";

/// Why something could not be rendered.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct RenderError {
    /// What happened, in one sentence.
    pub message: String,
    /// The file of renders/ that it is in; `None` for a text of the document.
    pub file: Option<String>,
    /// The part of it, in bytes.
    pub range: Option<Range<usize>>,
    /// Its line, from 1, where the part is not known.
    pub line: Option<usize>,
    /// Whether it may only come from what a check has to guess at, as the items of an empty list.
    pub is_a_guess: bool,
}

/// What renders may speak of.
#[derive(Clone)]
pub struct Scope {
    context: JinjaValue,
    guesses: Option<Arc<Guesses>>,
    inputs: Noted,
}

/// What was inputs of the node so far.
type Noted = Arc<Mutex<NodeInputs>>;

fn note(noted: &Noted, how: impl FnOnce(&mut NodeInputs)) {
    how(&mut noted.lock().unwrap_or_else(PoisonError::into_inner));
}

impl Scope {
    /// Puts a node and the parameters' values together.
    pub fn new(view: &NodeView, params: &Value) -> Self {
        let inputs = Noted::default();
        Self { context: context(view, JinjaValue::from(Serde(params)), &inputs), guesses: None, inputs }
    }

    /// The same for a check, which has no node and not all values: what a map does not hold is guessed at.
    pub fn guessing(view: &NodeView, params: &Value) -> Self {
        let guesses = Arc::new(Guesses::default());
        let known: BTreeMap<String, JinjaValue> = params
            .as_object()
            .into_iter()
            .flatten()
            .map(|(name, value)| (name.clone(), guessable(value, &guesses)))
            .collect();
        let inputs = Noted::default();
        Self {
            context: context(view, JinjaValue::from_object(known), &inputs),
            guesses: Some(guesses),
            inputs,
        }
    }

    /// Adds the names of loops.
    pub fn with<'n>(&self, names: impl Iterator<Item = (&'n str, Value)>) -> Self {
        let names: BTreeMap<String, JinjaValue> = names
            .map(|(name, value)| {
                let value = match &self.guesses {
                    Some(guesses) => guessable(&value, guesses),
                    None => JinjaValue::from(Serde(&value)),
                };
                (name.to_owned(), value)
            })
            .collect();
        let context = merge_maps([JinjaValue::from_object(names), self.context.clone()]);
        Self { context, guesses: self.guesses.clone(), inputs: self.inputs.clone() }
    }

    /// Notes what else was inputs of the node.
    pub fn note(&self, inputs: &NodeInputs) {
        note(&self.inputs, |all| all.add(inputs));
    }

    /// Returns what was inputs of the node so far.
    pub fn inputs(&self) -> NodeInputs {
        let mut inputs = NodeInputs::default();
        note(&self.inputs, |all| inputs.add(all));
        inputs
    }

    /// Returns the same, and forgets it.
    pub fn take_inputs(&self) -> NodeInputs {
        let mut inputs = NodeInputs::default();
        note(&self.inputs, |all| inputs = std::mem::take(all));
        inputs
    }

    /// Returns whether something was guessed at since it was inputs last.
    pub fn guessed(&self) -> bool {
        self.guesses.as_ref().is_some_and(|guesses| guesses.made.swap(false, Ordering::Relaxed))
    }
}

fn context(view: &NodeView, params: JinjaValue, inputs: &Noted) -> JinjaValue {
    let of_node = |root, map| JinjaValue::from_object(OfNode { root, map, inputs: inputs.clone() });
    minijinja::context! {
        labels => of_node(Root::Labels, JinjaValue::from(Serde(&view.labels))),
        about => of_node(Root::About, JinjaValue::from(Serde(view.about.nested()))),
        params => params,
        node => of_node(Root::Node, minijinja::context! { name => view.name.clone() }),
    }
}

/// Whether a check had to guess.
#[derive(Debug, Default)]
struct Guesses {
    made: AtomicBool,
}

/// A map of which a check may not know all keys, or nothing at all: then anything may be inputs of it.
#[derive(Debug)]
struct Guessed {
    known: BTreeMap<String, JinjaValue>,
    guesses: Arc<Guesses>,
}

fn guessable(value: &Value, guesses: &Arc<Guesses>) -> JinjaValue {
    let known = match value {
        Value::Null => BTreeMap::new(),
        Value::Object(map) => {
            map.iter().map(|(key, value)| (key.clone(), guessable(value, guesses))).collect()
        }
        other => return JinjaValue::from(Serde(other)),
    };
    JinjaValue::from_object(Guessed { known, guesses: guesses.clone() })
}

impl Object for Guessed {
    fn get_value(self: &Arc<Self>, key: &JinjaValue) -> Option<JinjaValue> {
        if let Some(known) = key.as_str().and_then(|key| self.known.get(key)) {
            return Some(known.clone());
        }
        self.guesses.made.store(true, Ordering::Relaxed);
        let usual = self.known.values().next().cloned();
        Some(usual.unwrap_or_else(|| {
            JinjaValue::from_object(Self { known: BTreeMap::new(), guesses: self.guesses.clone() })
        }))
    }

    fn enumerate(self: &Arc<Self>) -> Enumerator {
        Enumerator::Values(self.known.keys().map(JinjaValue::from).collect())
    }

    fn render(self: &Arc<Self>, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if !self.known.is_empty() {
            return write!(f, "{}", JinjaValue::from_object(self.known.clone()));
        }
        self.guesses.made.store(true, Ordering::Relaxed);
        f.write_str("sample")
    }
}

/// A map of the node's, which notes what is inputs of it.
#[derive(Debug)]
struct OfNode {
    root: Root,
    map: JinjaValue,
    inputs: Noted,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Root {
    /// A missing one reads as `""`.
    Labels,
    About,
    Node,
}

impl OfNode {
    fn note(&self, key: Option<&str>) {
        note(&self.inputs, |inputs| match self.root {
            Root::Labels => inputs.labels.add(key),
            Root::About => inputs.about.add(key),
            Root::Node => inputs.name = true,
        });
    }
}

impl Object for OfNode {
    fn get_value(self: &Arc<Self>, key: &JinjaValue) -> Option<JinjaValue> {
        self.note(Some(key.as_str()?));
        let value = self.map.get_item(key).ok().filter(|value| !value.is_undefined());
        value.or_else(|| (self.root == Root::Labels).then(|| JinjaValue::from("")))
    }

    fn enumerate(self: &Arc<Self>) -> Enumerator {
        self.note(None);
        Enumerator::Values(self.map.try_iter().into_iter().flatten().collect())
    }
}

/// Renders the texts and files of one kit.
#[derive(Debug)]
pub struct Renderer {
    environment: Environment<'static>,
}

impl Renderer {
    /// Prepares rendering with the files of a kit's renders/.
    pub fn new(files: &KitFiles) -> Self {
        let mut environment = Environment::new();
        environment.set_auto_escape_callback(|_| AutoEscape::None);
        let syntax = SyntaxConfig::builder().keep_trailing_newline(true).build();
        environment.set_syntax(syntax.expect("the usual signs do not clash"));
        environment.set_undefined_behavior(UndefinedBehavior::Strict);
        environment.set_fuel(Some(MAX_STEPS));
        environment.set_recursion_limit(64);
        environment.set_debug(true);
        let files = files.clone();
        environment.set_loader(move |name| {
            let text = name.strip_prefix(TEXT).or_else(|| files.text(&format!("renders/{name}")));
            Ok(text.map(str::to_owned))
        });
        Self { environment }
    }

    /// Renders a file of renders/.
    ///
    /// # Errors
    ///
    /// Returns what is wrong and where in which file.
    pub fn file(&self, name: &str, scope: &Scope) -> Result<String, RenderError> {
        let template =
            self.environment.get_template(name).map_err(|error| render_error(&error, Some(name)))?;
        let mut output = Bounded(Vec::new());
        template
            .render_captured_to(scope.context.clone(), &mut output)
            .map_err(|error| guess(render_error(&error, Some(name)), scope))?;
        Ok(String::from_utf8(output.0).expect("templates and values are texts"))
    }

    /// Renders a text; one that is exactly one `{{ … }}` keeps the type of its expression.
    ///
    /// # Errors
    ///
    /// Returns what is wrong and where in the text.
    pub fn value(&self, source: &str, scope: &Scope) -> Result<Value, RenderError> {
        if let Some(inner) = only_expression(source) {
            let at = source.find(inner).unwrap_or(0);
            let moved = |error: &Error| {
                let mut error = guess(render_error(error, None), scope);
                error.range = Some(at..at + inner.len());
                error
            };
            let value = self
                .environment
                .compile_expression(inner)
                .and_then(|expression| expression.eval(&scope.context))
                .map_err(|error| moved(&error))?;
            if value.is_undefined() {
                return Err(moved(&Error::from(ErrorKind::UndefinedError)));
            }
            return serde_json::to_value(&value)
                .map_err(|error| moved(&Error::new(ErrorKind::BadSerialization, error.to_string())));
        }
        let mut output = Bounded(Vec::new());
        let rendered = self
            .environment
            .get_template(&[TEXT, source].concat())
            .and_then(|template| template.render_captured_to(scope.context.clone(), &mut output).map(|_| ()));
        rendered.map_err(|error| guess(render_error(&error, None), scope))?;
        Ok(Value::String(String::from_utf8(output.0).expect("templates and values are texts")))
    }

    /// Renders every text within a value.
    ///
    /// # Errors
    ///
    /// Returns the first text that cannot be rendered.
    pub fn deep(&self, value: &Value, scope: &Scope) -> Result<Value, RenderError> {
        Ok(match value {
            Value::String(text) if has_markup(text) => self.value(text, scope)?,
            Value::Array(items) => {
                Value::Array(items.iter().map(|item| self.deep(item, scope)).collect::<Result<_, _>>()?)
            }
            Value::Object(map) => {
                Value::Object(
                    map.iter()
                        .map(|(key, item)| Ok((key.clone(), self.deep(item, scope)?)))
                        .collect::<Result<_, RenderError>>()?,
                )
            }
            other => other.clone(),
        })
    }

    /// Returns the names that a text speaks of, with their fields (`params.lanes`), as far as they can be seen in it;
    /// none if it cannot be read.
    pub fn names_in(&self, source: &str) -> BTreeSet<String> {
        let names = self
            .environment
            .template_from_str(source)
            .map(|template| template.undeclared_variables(true))
            .unwrap_or_default();
        let is_given = |name: &str| self.environment.globals().any(|(global, _)| global == name);
        names.into_iter().filter(|name| !is_given(name)).collect()
    }
}

/// Returns whether a text holds anything to be rendered.
pub fn has_markup(text: &str) -> bool {
    text.contains("{{") || text.contains("{%") || text.contains("{#")
}

fn only_expression(source: &str) -> Option<&str> {
    let inner = source.trim().strip_prefix("{{")?.strip_suffix("}}")?;
    (source.trim().len() == source.len() && !inner.contains("}}") && !inner.contains("{{"))
        .then(|| inner.trim_matches('-').trim())
}

fn guess(error: RenderError, scope: &Scope) -> RenderError {
    RenderError { is_a_guess: error.is_a_guess || scope.guessed(), ..error }
}

fn render_error(error: &Error, file: Option<&str>) -> RenderError {
    let what = match error.kind() {
        ErrorKind::UndefinedError => "uses an unknown name".to_owned(),
        ErrorKind::OutOfFuel => format!("takes more than {MAX_STEPS} steps"),
        ErrorKind::WriteFailure => format!("makes more than {MAX_OUTPUT_BYTES} bytes"),
        ErrorKind::TemplateNotFound => {
            error.detail().map_or_else(|| "is not there".to_owned(), str::to_owned)
        }
        kind => error.detail().map_or_else(|| kind.to_string(), str::to_owned),
    };
    let marked =
        error.range().and_then(|range| Some((error.template_source()?.get(range)?.to_owned(), what.clone())));
    let message = match marked {
        Some((part, what)) if error.kind() == ErrorKind::UndefinedError => {
            format!("the render {what}: `{}`", part.trim())
        }
        _ => format!("the render {what}"),
    };
    let file = error.name().filter(|name| !name.starts_with('<')).or(file).map(str::to_owned);
    RenderError { message, file, range: error.range(), line: error.line(), is_a_guess: false }
}

/// Takes bytes up to [`MAX_OUTPUT_BYTES`].
struct Bounded(Vec<u8>);

impl io::Write for Bounded {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.0.len() + bytes.len() > MAX_OUTPUT_BYTES {
            return Err(io::Error::other("the rendered text is too large"));
        }
        self.0.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::Keys;
    use serde_json::json;

    fn rendered(source: &str) -> Result<Value, RenderError> {
        let files = KitFiles::default();
        let view =
            NodeView { labels: BTreeMap::from([("site".into(), "auken".into())]), ..NodeView::sample() };
        Renderer::new(&files).value(source, &Scope::new(&view, &json!({ "idle": 90, "lanes": ["A", "B"] })))
    }

    #[test]
    fn one_expression_keeps_its_type() {
        assert_eq!(rendered("{{ params.idle }}").unwrap(), json!(90));
        assert_eq!(rendered("{{ params.lanes }}").unwrap(), json!(["A", "B"]));
        assert_eq!(rendered("idle = {{ params.idle }}\n").unwrap(), json!("idle = 90\n"));
    }

    #[test]
    fn nothing_is_escaped_and_the_last_newline_is_kept() {
        assert_eq!(rendered("<{{ labels.site }}>&\n").unwrap(), json!("<auken>&\n"));
    }

    #[test]
    fn a_missing_label_is_empty_and_any_other_missing_name_an_error() {
        assert_eq!(rendered("ship={{ labels.ship }}").unwrap(), json!("ship="));
        assert_eq!(
            rendered("x {{ params.idel }}").unwrap_err().message,
            "the render uses an unknown name: `params.idel`"
        );
        assert!(rendered("{{ params.idel }}").is_err());
    }

    #[test]
    fn what_is_asked_of_the_node_is_noted() {
        let inputs = |source: &str| {
            let view =
                NodeView { labels: BTreeMap::from([("site".into(), "auken".into())]), ..NodeView::sample() };
            let scope = Scope::new(&view, &json!({ "idle": 90, "which": "site" }));
            let turn = scope.with(std::iter::once(("lane", json!("A"))));
            let rendered = Renderer::new(&KitFiles::default())
                .value(source, &turn)
                .map(|_| ())
                .map_err(|error| error.message);
            rendered.map(|()| scope.inputs())
        };
        let of = |name: bool, labels: Option<&[&str]>, about: Option<&[&str]>| {
            let keys = |keys: Option<&[&str]>| {
                keys.map_or(Keys::All, |keys| Keys::Some(keys.iter().map(|key| (*key).to_owned()).collect()))
            };
            NodeInputs { name, labels: keys(labels), about: keys(about) }
        };
        let none: Option<&[&str]> = Some(&[]);
        for (source, expected) in [
            ("{{ params.idle }} {{ lane }}", of(false, none, none)),
            ("{{ labels.ship }} {{ labels[params.which] }}", of(false, Some(&["ship", "site"]), none)),
            ("{% if 'ship' in labels %}x{% endif %}", of(false, Some(&["ship"]), none)),
            ("{% for label in labels %}{{ label }}{% endfor %}", of(false, None, none)),
            ("{{ labels|length }}", of(false, None, none)),
            ("{{ labels == {'site': 'auken'} }}", of(false, None, none)),
            ("{{ labels }}", of(false, None, none)),
            ("{% if labels %}x{% endif %}", of(false, None, none)),
            ("{{ about.os.name }} {{ about.cpu is defined }}", of(false, none, Some(&["os", "cpu"]))),
            ("{{ about|tojson }}", of(false, none, None)),
            ("{{ node.name }}", of(true, none, none)),
            ("{{ debug() }}", of(true, None, None)),
        ] {
            assert_eq!(inputs(source).unwrap(), expected, "{source}");
        }
    }

    #[test]
    fn endless_and_growing_renders_end() {
        assert_eq!(
            rendered("{% for a in range(9999) %}{% for b in range(9999) %}{% endfor %}{% endfor %}x")
                .unwrap_err()
                .message,
            "the render takes more than 1000000 steps"
        );
        assert_eq!(
            rendered("{% for a in range(9999) %}{{ 'x' * 1000 }}{% endfor %}").unwrap_err().message,
            "the render makes more than 1048576 bytes"
        );
    }
}
