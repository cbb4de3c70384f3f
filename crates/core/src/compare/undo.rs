//! What a clause would have to say for its thing to be as it was found: what puts a change back.

use super::found::{Found, FoundValue, Presence};
use crate::kit::Gone;
use crate::state::Clause;
use serde_json::Value;

/// Returns the clause that keeps the thing as it was found before it was corrected; none if nothing can say that.
///
/// A file that was removed comes back without contents here: anyone who has the old ones adds them. What is concealed
/// stays as it is wanted.
pub fn as_it_was(clause: &Clause, found: &Found) -> Option<Clause> {
    let mut was = clause.clone();
    was.concealed.clear();
    was.reaction = None;
    match (clause.gone, found.presence) {
        (Gone::No, Presence::Absent | Presence::Remnant | Presence::Broken) => {
            if !clause.kind().can_be_gone() {
                return None;
            }
            was.gone = Gone::Yes;
            Some(was)
        }
        (Gone::No, Presence::Present) => {
            for (property, _, _) in
                clause.compared().into_iter().filter(|(property, ..)| !clause.concealed.contains(*property))
            {
                match found.get(property) {
                    Some(FoundValue::Value(Value::String(any))) if any == "any" => {
                        drop(was.properties.remove(property));
                    }
                    Some(FoundValue::Value(Value::String(both))) if both.contains(" now, ") => {
                        let now = both.split(" now, ").next().unwrap_or_default();
                        was.properties.insert(property.to_owned(), now.into());
                    }
                    Some(FoundValue::Value(value)) => {
                        drop(was.properties.insert(property.to_owned(), value.clone()));
                    }
                    Some(FoundValue::Unreadable(_) | FoundValue::NotExaminedHere(_)) | None => {}
                }
            }
            Some(was)
        }
        (_, Presence::Present) if clause.address.kind() == "file" => {
            was.gone = Gone::No;
            Some(was)
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::compare::differences;
    use crate::state::testing::clause;

    #[test]
    fn what_keeps_a_thing_as_it_was_finds_it_in_line_as_it_was() {
        let rule = clause("packet_rule:x").with("direction", "in").with("then", "drop");
        let before = Found::present().with("direction", "in").with("then", "accept");
        let was = as_it_was(&rule, &before).unwrap();
        assert_eq!(differences(&was, &before, None), []);
        assert_ne!(differences(&rule, &before, None), []);
    }

    #[test]
    fn what_was_not_there_is_to_go_and_what_cannot_go_is_left() {
        assert_eq!(as_it_was(&clause("packet_rule:x"), &Found::absent()).unwrap().gone, Gone::Yes);
        assert!(as_it_was(&clause("service:x"), &Found::absent()).is_none());
        assert!(as_it_was(&clause("package:x").gone(Gone::Yes), &Found::present()).is_none());
        assert_eq!(as_it_was(&clause("file:/x").gone(Gone::Yes), &Found::present()).unwrap().gone, Gone::No);
    }

    #[test]
    fn what_held_now_holds_again_and_what_is_concealed_stays() {
        let was = as_it_was(
            &clause("kernel_setting:net.x").with("value", "0"),
            &Found::present().with("value", "1 now, not set at boot"),
        )
        .unwrap();
        assert_eq!(was.text("value"), Some("1"));
        let account = clause("account:ops").with("password_hash", "$y$new").conceal("password_hash");
        assert_eq!(
            as_it_was(&account, &Found::present().with("password_hash", "$y$old"))
                .unwrap()
                .text("password_hash"),
            Some("$y$new")
        );
    }
}
