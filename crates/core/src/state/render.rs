//! Renders texts and files of a kit: strict, without escaping, bounded, and blind to everything outside the kit.

use crate::filter::NodeView;
use crate::kit::KitFiles;
use minijinja::syntax::SyntaxConfig;
use minijinja::value::{Enumerator, Object, Serde, Value as JinjaValue};
use minijinja::{AutoEscape, Environment, Error, ErrorKind, UndefinedBehavior};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::ops::Range;
use std::sync::Arc;

/// The largest rendered text, in bytes.
pub const MAX_OUTPUT_BYTES: usize = 1024 * 1024;
const MAX_STEPS: u64 = 1_000_000;

/// Why something could not be rendered.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct RenderError {
    /// One fact.
    pub message: String,
    /// The file of renders/ in which it stands; `None` for a text of the document.
    pub file: Option<String>,
    /// The part of it, in bytes.
    pub range: Option<Range<usize>>,
    /// Its line, from 1, where the part is not known.
    pub line: Option<usize>,
}

/// What renders may speak of.
pub struct Scope {
    context: JinjaValue,
}

impl Scope {
    /// Puts a node and the parameters' values together.
    pub fn new(view: &NodeView, params: &Value) -> Self {
        let labels = JinjaValue::from_object(Labels(view.labels.clone()));
        let context = minijinja::context! {
            labels => labels,
            about => JinjaValue::from(Serde(view.about.nested())),
            params => JinjaValue::from(Serde(params)),
            node => minijinja::context! { name => view.name.clone() },
        };
        Self { context }
    }
}

/// Labels: a missing one reads as `""`.
#[derive(Debug)]
struct Labels(BTreeMap<String, String>);

impl Object for Labels {
    fn get_value(self: &Arc<Self>, key: &JinjaValue) -> Option<JinjaValue> {
        Some(JinjaValue::from(self.0.get(key.as_str()?).cloned().unwrap_or_default()))
    }

    fn enumerate(self: &Arc<Self>) -> Enumerator {
        Enumerator::Values(self.0.keys().map(JinjaValue::from).collect())
    }
}

/// Renders the texts and files of one kit.
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
        environment.set_loader(move |name| Ok(files.text(&format!("renders/{name}")).map(str::to_owned)));
        Self { environment }
    }

    /// Renders a file of renders/.
    ///
    /// # Errors
    ///
    /// Returns what is wrong and where in which file.
    pub fn file(&self, name: &str, scope: &Scope) -> Result<String, RenderError> {
        let template = self.environment.get_template(name).map_err(|error| render_error(&error, Some(name)))?;
        let mut output = Bounded(Vec::new());
        template.render_captured_to(scope.context.clone(), &mut output).map_err(|error| render_error(&error, Some(name)))?;
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
                let mut error = render_error(error, None);
                error.range = Some(at..at + inner.len());
                error
            };
            let value =
                self.environment.compile_expression(inner).and_then(|expression| expression.eval(&scope.context)).map_err(|error| moved(&error))?;
            if value.is_undefined() {
                return Err(moved(&Error::from(ErrorKind::UndefinedError)));
            }
            return serde_json::to_value(&value).map_err(|error| moved(&Error::new(ErrorKind::BadSerialization, error.to_string())));
        }
        let mut output = Bounded(Vec::new());
        let rendered = self
            .environment
            .template_from_str(source)
            .and_then(|template| template.render_captured_to(scope.context.clone(), &mut output).map(|_| ()));
        rendered.map_err(|error| render_error(&error, None))?;
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
            Value::Array(items) => Value::Array(items.iter().map(|item| self.deep(item, scope)).collect::<Result<_, _>>()?),
            Value::Object(map) => {
                Value::Object(map.iter().map(|(key, item)| Ok((key.clone(), self.deep(item, scope)?))).collect::<Result<_, RenderError>>()?)
            }
            other => other.clone(),
        })
    }

    /// Returns the parameters that a text or file speaks of; `None` if it takes them as a whole.
    pub fn parameters_of(&self, source: &str) -> Option<BTreeSet<String>> {
        let names = self.environment.template_from_str(source).map(|template| template.undeclared_variables(true)).unwrap_or_default();
        if names.contains("params") {
            return None;
        }
        Some(names.iter().filter_map(|name| name.strip_prefix("params.")).map(|name| name.split('.').next().unwrap_or(name).to_owned()).collect())
    }
}

/// Returns whether a text holds anything to be rendered.
pub fn has_markup(text: &str) -> bool {
    text.contains("{{") || text.contains("{%") || text.contains("{#")
}

fn only_expression(source: &str) -> Option<&str> {
    let inner = source.trim().strip_prefix("{{")?.strip_suffix("}}")?;
    (source.trim().len() == source.len() && !inner.contains("}}") && !inner.contains("{{")).then(|| inner.trim_matches('-').trim())
}

fn render_error(error: &Error, file: Option<&str>) -> RenderError {
    let what = match error.kind() {
        ErrorKind::UndefinedError => "speaks of a name that is not there".to_owned(),
        ErrorKind::OutOfFuel => format!("takes more than {MAX_STEPS} steps"),
        ErrorKind::WriteFailure => format!("makes more than {MAX_OUTPUT_BYTES} bytes"),
        ErrorKind::TemplateNotFound => error.detail().map_or_else(|| "is not there".to_owned(), str::to_owned),
        kind => error.detail().map_or_else(|| kind.to_string(), str::to_owned),
    };
    let marked = error.range().and_then(|range| Some((error.template_source()?.get(range)?.to_owned(), what.clone())));
    let message = match marked {
        Some((part, what)) if error.kind() == ErrorKind::UndefinedError => format!("the render {what}: `{}`", part.trim()),
        _ => format!("the render {what}"),
    };
    let file = error.name().filter(|name| !name.starts_with('<')).or(file).map(str::to_owned);
    RenderError { message, file, range: error.range(), line: error.line() }
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
    use serde_json::json;

    fn rendered(source: &str) -> Result<Value, RenderError> {
        let files = KitFiles::default();
        let view = NodeView { labels: BTreeMap::from([("site".into(), "auken".into())]), ..NodeView::sample() };
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
        assert_eq!(rendered("x {{ params.idel }}").unwrap_err().message, "the render speaks of a name that is not there: `params.idel`");
        assert!(rendered("{{ params.idel }}").is_err());
    }

    #[test]
    fn endless_and_growing_renders_end() {
        assert_eq!(
            rendered("{% for a in range(9999) %}{% for b in range(9999) %}{% endfor %}{% endfor %}x").unwrap_err().message,
            "the render takes more than 1000000 steps"
        );
        assert_eq!(
            rendered("{% for a in range(9999) %}{{ 'x' * 1000 }}{% endfor %}").unwrap_err().message,
            "the render makes more than 1048576 bytes"
        );
    }
}
