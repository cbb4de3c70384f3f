//! Conditions whose parts a database can decide too: comparisons of one field with one value, joined by and, or, not.
//!
//! What is not decided for a part is not decided for the whole unless the other parts decide it, as in CEL: three-valued
//! logic, in which a field that a node did not report is the third value.

use super::{STABLE_FIELDS, Sample};
use cel::common::ast::{CallExpr, Expr, IdedExpr, LiteralValue, operators};

/// A condition of plain parts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Plain {
    /// All hold.
    All(Vec<Plain>),
    /// One of them holds.
    Any(Vec<Plain>),
    /// It does not hold.
    Not(Box<Plain>),
    /// A field compares so with a value of its own type.
    Compare(Field, Comparison, Scalar),
    /// A text is one of these.
    OneOf(Field, Vec<String>),
    /// A text begins so.
    StartsWith(Field, String),
    /// The node has this label.
    HasLabel(String),
    /// The node is in this group.
    InGroup(String),
}

impl Plain {
    /// Returns the values that labels are compared with, each with its label; not the empty text, which means none.
    pub fn label_values(&self) -> Vec<(&str, &str)> {
        let values: Vec<(&str, &str)> = match self {
            Self::All(parts) | Self::Any(parts) => parts.iter().flat_map(Self::label_values).collect(),
            Self::Not(part) => part.label_values(),
            Self::Compare(Field::Label(label), Comparison::Equal, Scalar::Text(text)) => vec![(label, text)],
            Self::OneOf(Field::Label(label), texts) => {
                texts.iter().map(|text| (label.as_str(), text.as_str())).collect()
            }
            _ => Vec::new(),
        };
        values.into_iter().filter(|(_, value)| !value.is_empty()).collect()
    }
}

/// What is inputs of a node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Field {
    /// The value of a label, the empty text if the node does not have it.
    Label(String),
    /// A text that the node found out about itself, by its path.
    AboutText(&'static str),
    /// A whole number that the node found out about itself, by its path.
    AboutNumber(&'static str),
    /// Its name.
    Name,
    /// Its status, as its word.
    Status,
    /// The state of its last contact, as its word.
    LastContact,
    /// Its mode.
    Mode,
    /// Its stage.
    Stage,
    /// How many of its drift episodes are open.
    OpenEpisodes,
}

impl Field {
    fn is_number(&self) -> bool {
        matches!(self, Self::AboutNumber(_) | Self::OpenEpisodes)
    }
}

/// How two values compare.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the names say it")]
pub enum Comparison {
    Equal,
    Unequal,
    Less,
    AtMost,
    Greater,
    AtLeast,
}

impl Comparison {
    fn of(function: &str) -> Option<Self> {
        Some(match function {
            operators::EQUALS => Self::Equal,
            operators::NOT_EQUALS => Self::Unequal,
            operators::LESS => Self::Less,
            operators::LESS_EQUALS => Self::AtMost,
            operators::GREATER => Self::Greater,
            operators::GREATER_EQUALS => Self::AtLeast,
            _ => return None,
        })
    }

    /// The same with its sides exchanged.
    fn turned(self) -> Self {
        match self {
            Self::Equal | Self::Unequal => self,
            Self::Less => Self::Greater,
            Self::AtMost => Self::AtLeast,
            Self::Greater => Self::Less,
            Self::AtLeast => Self::AtMost,
        }
    }
}

/// A value that is written out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Scalar {
    /// A text.
    Text(String),
    /// A whole number.
    Number(i64),
}

/// Returns an expression as plain parts, if it is made of nothing else.
pub(super) fn plain(expression: &IdedExpr) -> Option<Plain> {
    match &expression.expr {
        Expr::Select(select) if select.test => match &select.operand.expr {
            Expr::Ident(root) if root == "labels" => Some(Plain::HasLabel(select.field.clone())),
            _ => None,
        },
        Expr::Call(call) => of_call(call),
        _ => None,
    }
}

fn of_call(call: &CallExpr) -> Option<Plain> {
    match (call.func_name.as_str(), call.target.as_deref(), call.args.as_slice()) {
        (operators::LOGICAL_AND, None, parts) => {
            parts.iter().map(plain).collect::<Option<_>>().map(Plain::All)
        }
        (operators::LOGICAL_OR, None, parts) => {
            parts.iter().map(plain).collect::<Option<_>>().map(Plain::Any)
        }
        (operators::LOGICAL_NOT, None, [part]) => plain(part).map(|part| Plain::Not(Box::new(part))),
        (operators::IN, None, [item, list]) => one_of(item, list),
        ("startsWith", Some(target), [start]) => match (field(target)?, scalar(start)?) {
            (field, Scalar::Text(start)) if !field.is_number() => Some(Plain::StartsWith(field, start)),
            _ => None,
        },
        (function, None, [left, right]) => {
            let comparison = Comparison::of(function)?;
            let (field, comparison, scalar) = match (field(left), field(right)) {
                (Some(field), None) => (field, comparison, scalar(right)?),
                (None, Some(field)) => (field, comparison.turned(), scalar(left)?),
                _ => return None,
            };
            let is_of_its_type = field.is_number() == matches!(scalar, Scalar::Number(_));
            is_of_its_type.then_some(Plain::Compare(field, comparison, scalar))
        }
        _ => None,
    }
}

fn one_of(item: &IdedExpr, list: &IdedExpr) -> Option<Plain> {
    let text = |expression| match scalar(expression) {
        Some(Scalar::Text(text)) => Some(text),
        _ => None,
    };
    match &list.expr {
        Expr::List(list) => {
            let field = field(item).filter(|field| !field.is_number())?;
            Some(Plain::OneOf(field, list.elements.iter().map(text).collect::<Option<_>>()?))
        }
        Expr::Select(select)
            if matches!(&select.operand.expr, Expr::Ident(root) if root == "node")
                && select.field == "groups" =>
        {
            text(item).map(Plain::InGroup)
        }
        _ => None,
    }
}

fn scalar(expression: &IdedExpr) -> Option<Scalar> {
    match &expression.expr {
        // No database's text has a NUL in it.
        Expr::Literal(LiteralValue::String(text)) if !text.inner().contains('\0') => {
            Some(Scalar::Text(text.inner().to_owned()))
        }
        Expr::Literal(LiteralValue::Int(number)) => Some(Scalar::Number(*number.inner())),
        _ => None,
    }
}

fn field(expression: &IdedExpr) -> Option<Field> {
    if let Expr::Call(CallExpr { func_name, args, .. }) = &expression.expr
        && func_name == operators::INDEX
        && let [IdedExpr { expr: Expr::Ident(root), .. }, key] = args.as_slice()
        && root == "labels"
        && let Some(Scalar::Text(label)) = scalar(key)
    {
        return Some(Field::Label(label));
    }
    let mut path = Vec::new();
    let mut at = expression;
    while let Expr::Select(select) = &at.expr {
        if select.test {
            return None;
        }
        path.insert(0, select.field.as_str());
        at = &select.operand;
    }
    let Expr::Ident(root) = &at.expr else { return None };
    match (root.as_str(), path.as_slice()) {
        ("labels", [label]) => Some(Field::Label((*label).to_owned())),
        ("about", path) => {
            let path = path.join(".");
            let stable = STABLE_FIELDS.iter().find(|stable| stable.path == path)?;
            Some(match stable.sample {
                Sample::Text(_) => Field::AboutText(stable.path),
                Sample::Integer(_) => Field::AboutNumber(stable.path),
            })
        }
        ("node", ["name"]) => Some(Field::Name),
        ("node", ["status"]) => Some(Field::Status),
        ("node", ["last_contact"]) => Some(Field::LastContact),
        ("node", ["mode"]) => Some(Field::Mode),
        ("node", ["stage"]) => Some(Field::Stage),
        ("node", ["open_episodes"]) => Some(Field::OpenEpisodes),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::super::Condition;
    use super::*;

    fn plain(source: &str) -> Option<Plain> {
        Condition::parse_for_list(source).unwrap().plain()
    }

    fn equal(field: Field, text: &str) -> Plain {
        Plain::Compare(field, Comparison::Equal, Scalar::Text(text.to_owned()))
    }

    #[test]
    fn comparisons_joined_by_and_or_not_are_plain() {
        let site = || Field::Label("site".to_owned());
        let tests = [
            ("labels.site == 'auken'", equal(site(), "auken")),
            ("'auken' == labels['site']", equal(site(), "auken")),
            ("!(node.status == 'failed') || node.mode == 'observe'", {
                let not_failed = Plain::Not(Box::new(equal(Field::Status, "failed")));
                Plain::Any(vec![not_failed, equal(Field::Mode, "observe")])
            }),
            (
                "2 < about.cpu.count",
                Plain::Compare(Field::AboutNumber("cpu.count"), Comparison::Greater, Scalar::Number(2)),
            ),
            (
                "about.os.name in ['debian', 'other']",
                Plain::OneOf(Field::AboutText("os.name"), vec!["debian".to_owned(), "other".to_owned()]),
            ),
            ("has(labels.site) && 'kiosks' in node.groups", {
                Plain::All(vec![Plain::HasLabel("site".to_owned()), Plain::InGroup("kiosks".to_owned())])
            }),
            ("node.name.startsWith('kiosk-')", Plain::StartsWith(Field::Name, "kiosk-".to_owned())),
        ];
        for (source, expected) in tests {
            assert_eq!(plain(source), Some(expected), "{source}");
        }
    }

    #[test]
    fn whatever_else_is_in_a_condition_it_is_not_plain() {
        for source in [
            "labels.site == labels.role",
            "labels.site == 5",
            "about.cpu.count == 'two'",
            "['auken'].exists(site, site == labels.site)",
            "node.name.size() > 3",
            "'clock_off' in node.problems",
            "labels.site + 'x' == 'aukenx'",
            "labels.role == 'kiosk' && node.releases.size() > 1",
            "true",
            "has(labels.site) && labels.site != 'auken'",
        ] {
            assert_eq!(plain(source), None, "{source}");
        }
    }
}
