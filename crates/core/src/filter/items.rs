//! What a clause is repeated for: an expression that comes to a list or a map.

use super::walk::Names;
use super::{ConditionError, Evaluated, Expression, NodeInputs, NodeView};
use cel::Value as CelValue;
use serde_json::{Map, Value, json};

/// The most items that one clause is repeated for.
pub const MAX_ITEMS: usize = 1_000;

/// An expression over `params`, `labels`, `about` and `node` that comes to a list or a map.
#[derive(Debug)]
pub struct Items(Expression);

impl Items {
    /// Reads the expression; `params` are those declared.
    ///
    /// # Errors
    ///
    /// Returns everything that is wrong with it: syntax, size, names that are not known.
    pub fn parse(source: &str, parameters: &[&str]) -> Result<Self, Vec<ConditionError>> {
        Expression::parse(source, Names::OfNode { parameters, is_listed: false }).map(Self)
    }

    /// Returns the items: of a list in its order, of a map by key, each as a map of `key` and `value`. The inner error
    /// names the fields that the node did not report.
    ///
    /// # Errors
    ///
    /// Returns why the expression does not come to at most [`MAX_ITEMS`] items.
    pub fn of(
        &self,
        view: &NodeView,
        params: &Value,
    ) -> Result<Result<Vec<Value>, Vec<String>>, ConditionError> {
        let value = match self.0.evaluate(view, params, json!({ "name": view.name }))? {
            Evaluated::Undecidable(missing) => return Ok(Err(missing)),
            Evaluated::Value(value) => from_cel(&value),
        };
        let items = match value {
            Some(Value::Array(items)) => items,
            Some(Value::Object(map)) => {
                let mut pairs: Vec<(String, Value)> = map.into_iter().collect();
                pairs.sort_by(|left, right| left.0.cmp(&right.0));
                pairs.into_iter().map(|(key, value)| json!({ "key": key, "value": value })).collect()
            }
            _ => {
                return Err(ConditionError::whole(
                    "`for` needs a list or a map, and this is neither".into(),
                    0,
                ));
            }
        };
        if items.len() > MAX_ITEMS {
            return Err(ConditionError::whole(
                format!("`for` has {} items, at most {MAX_ITEMS} are allowed", items.len()),
                0,
            ));
        }
        Ok(Ok(items))
    }

    /// Returns what the expression asks of a node.
    pub fn inputs(&self) -> NodeInputs {
        self.0.inputs()
    }

    /// Returns the parameters that the expression uses.
    pub fn parameters(&self) -> impl Iterator<Item = &str> {
        self.0.parameters()
    }
}

/// Converts what an expression comes to; `None` for what JSON does not know.
fn from_cel(value: &CelValue) -> Option<Value> {
    Some(match value {
        CelValue::Null => Value::Null,
        CelValue::Bool(boolean) => json!(boolean),
        CelValue::Int(number) => json!(number),
        CelValue::UInt(number) => json!(number),
        CelValue::Float(number) => json!(number),
        CelValue::String(text) => json!(text.as_str()),
        CelValue::List(items) => Value::Array(items.iter().map(from_cel).collect::<Option<_>>()?),
        CelValue::Map(map) => Value::Object(
            map.map
                .iter()
                .map(|(key, value)| Some((key.to_string(), from_cel(value)?)))
                .collect::<Option<Map<_, _>>>()?,
        ),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn items(source: &str, params: &Value) -> Result<Vec<Value>, String> {
        let parsed = Items::parse(source, &["lanes", "ships"]).map_err(|errors| errors[0].message.clone())?;
        parsed
            .of(&NodeView::sample(), params)
            .map_err(|error| error.message)?
            .map_err(|missing| missing.join(", "))
    }

    #[test]
    fn lists_keep_their_order_and_maps_go_by_key() {
        let params =
            json!({ "lanes": ["B", "A"], "ships": { "tern": { "mtu": 1400 }, "gannet": { "mtu": 900 } } });
        assert_eq!(items("params.lanes", &params).unwrap(), [json!("B"), json!("A")]);
        assert_eq!(items("params.lanes.filter(l, l != 'B')", &params).unwrap(), [json!("A")]);
        let ships = items("params.ships", &params).unwrap();
        assert_eq!(ships[0], json!({ "key": "gannet", "value": { "mtu": 900 } }));
        assert_eq!(ships[1]["key"], json!("tern"));
    }

    #[test]
    fn what_is_neither_a_list_nor_a_map_or_too_long_is_refused() {
        assert_eq!(
            items("1 + 1", &json!({})).unwrap_err(),
            "`for` needs a list or a map, and this is neither"
        );
        let many = json!({ "lanes": (0..=MAX_ITEMS).collect::<Vec<_>>() });
        assert_eq!(
            items("params.lanes", &many).unwrap_err(),
            "`for` has 1001 items, at most 1000 are allowed"
        );
        let much = json!({ "lanes": (0..100).map(|_| "x".repeat(9_000)).collect::<Vec<_>>() });
        assert!(
            items("params.lanes.map(a, params.lanes.map(b, a + b))", &much)
                .unwrap_err()
                .contains("bytes: that exceeds the limit")
        );
        assert_eq!(
            items("params.lames", &json!({})).unwrap_err(),
            "the baseline declares no parameter `lames`"
        );
    }
}
