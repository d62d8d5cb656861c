//! What fields hold that keep rules of play, as JSON Schemas.

use serde_json::{Value, json};

/// An operation on a field that nobody sets.
#[derive(Debug)]
pub(super) struct Act {
    pub(super) op: &'static str,
    pub(super) members: Vec<Member>,
}

/// A member of an operation.
#[derive(Debug)]
pub(super) struct Member {
    pub(super) name: &'static str,
    pub(super) of: Of,
    pub(super) is_needed: bool,
}

#[derive(Clone, Copy, Debug)]
pub(super) enum Of {
    Text,
    Whole,
    Texts,
    /// A number, or a word that stands for none.
    Number,
    Real,
    /// Milliseconds, or a time such as `"10s"`.
    Span,
}

impl Of {
    /// As a JSON Schema.
    pub(super) fn schema(self) -> Value {
        match self {
            Self::Text => json!({ "type": "string" }),
            Self::Whole => json!({ "type": "integer" }),
            Self::Texts => json!({ "type": "array", "items": { "type": "string" } }),
            Self::Real => json!({ "type": "number" }),
            Self::Span => json!({ "type": ["integer", "string"] }),
            Self::Number => json!({ "anyOf": [{ "type": "number" }, { "const": "unsure" }] }),
        }
    }
}

/// The operations on a field.
pub(super) fn acts(field: &Value, takes: &'static [&'static str]) -> Vec<Act> {
    let needed = |name, of| vec![Member { name, of, is_needed: true }];
    let perhaps = |name, of| vec![Member { name, of, is_needed: false }];
    let both = |mut one: Vec<Member>, other: Vec<Member>| {
        one.extend(other);
        one
    };
    let members = |op: &str| match op {
        "sit" | "accept" => perhaps("seat", Of::Text),
        "offer" | "advance" => perhaps("to", Of::Text),
        "give" => both(needed("seat", Of::Text), perhaps("to", Of::Text)),
        "roll" => both(needed("sides", Of::Whole), perhaps("count", Of::Whole)),
        "shuffle" => both(needed("of", Of::Text), needed("field", Of::Text)),
        "open" => needed("draw", Of::Whole),
        "cast" if field.get("scale").is_some() => {
            both(needed("value", Of::Number), perhaps("round", Of::Whole))
        }
        "cast" => both(needed("choices", Of::Texts), perhaps("round", Of::Whole)),
        "withdraw" | "unseal" => perhaps("round", Of::Whole),
        "restart" => both(perhaps("question", Of::Text), perhaps("round", Of::Whole)),
        "commit" => needed("sha256", Of::Text),
        "reveal" => needed("value", Of::Text),
        "waive" => needed("seat", Of::Text),
        "set" => both(perhaps("due", Of::Span), perhaps("in", Of::Span)),
        "extend" => needed("by", Of::Span),
        "seek" => needed("to", Of::Span),
        "rate" => needed("rate", Of::Real),
        _ => Vec::new(),
    };
    takes.iter().map(|op| Act { op, members: members(op) }).collect()
}

/// The schema of the value of a field of a kind that nobody sets; `None` for any other.
pub(super) fn schema(field: &Value) -> Option<Value> {
    let (whole, text) = (json!({ "type": "integer" }), json!({ "type": "string" }));
    let or_null = |name: &str| json!({ "type": [name, "null"] });
    let each = |inner: Value| json!({ "type": "object", "additionalProperties": inner });
    let object = |members: Value| {
        let required: Vec<&String> =
            members.as_object().into_iter().flatten().map(|(name, _)| name).collect();
        json!({ "type": "object", "required": required, "properties": members })
    };
    Some(match field["kind"].as_str()? {
        "total" if field.get("by").is_some() => each(or_null("number")),
        "total" => or_null("number"),
        "seats" => object(json!({
            "away": each(whole), "by": each(or_null("string")), "gathering": { "type": "boolean" }, "offers": each(text),
        })),
        "turn" => {
            let mut turn = object(json!({
                "moves": whole, "number": whole, "reversed": { "type": "boolean" }, "seat": or_null("string"),
            }));
            if field.get("time").is_some() {
                turn["properties"]["due"] = whole;
                turn["properties"]["late"] = json!({ "type": "boolean" });
            }
            turn
        }
        "deadline" => {
            let mut deadline =
                object(json!({ "due": or_null("integer"), "fired": or_null("integer") }));
            deadline["properties"]["in"] = whole;
            deadline
        }
        "clock" => {
            let mut clock = object(json!({
                "position": whole, "rate": { "type": "number" }, "running": { "type": "boolean" },
                "since": or_null("integer"),
            }));
            clock["properties"]["min"] = whole.clone();
            clock["properties"]["max"] = whole;
            clock
        }
        "random" if field["entropy"] == "seats" => object(json!({
            "draws": whole, "entropy": each(json!({ "type": "object" })), "last": or_null("object"),
            "next": or_null("string"), "opened": or_null("object"),
        })),
        "random" => object(json!({
            "draws": whole, "last": or_null("object"), "next": or_null("string"), "opened": or_null("object"),
        })),
        "ballot" => object(json!({
            "cast": whole, "earlier": { "type": "array", "items": { "type": "object" } }, "open": { "type": "boolean" },
            "question": or_null("string"), "results": or_null("object"), "round": whole, "voters": or_null("object"),
        })),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use rendel_core::{Edit, KINDS};

    use super::*;

    /// What the types say of an edit is what the service reads.
    #[test]
    fn each_edit_of_a_kept_field_is_read_with_the_members_that_its_type_has() {
        for kind in KINDS {
            let field = json!({ "kind": kind.name });
            if schema(&field).is_none() {
                continue;
            }
            for act in acts(&field, kind.takes) {
                let sample = |of: Of| match of {
                    Of::Text => json!("/heads"),
                    Of::Whole | Of::Number | Of::Real | Of::Span => json!(1),
                    Of::Texts => json!(["golden"]),
                };
                let edit = |members: &[&Member]| {
                    let edit = Edit::new("/field", act.op);
                    members.iter().fold(edit, |edit, one| edit.with(one.name, sample(one.of)))
                };
                let needed: Vec<&Member> = act.members.iter().filter(|one| one.is_needed).collect();
                let perhaps = act.members.iter().filter(|one| !one.is_needed);
                let mut tried: Vec<Edit> =
                    perhaps.map(|one| edit(&[&needed[..], &[one]].concat())).collect();
                // One of the two that tell a time has to be there.
                if act.op != "set" {
                    tried.push(edit(&needed));
                }
                for edit in tried {
                    assert!(edit.read().is_some(), "{} {edit:?}", kind.name);
                }
                for missing in 0..needed.len() {
                    let mut rest = needed.clone();
                    rest.remove(missing);
                    assert!(edit(&rest).read().is_none(), "{} {} {rest:?}", kind.name, act.op);
                }
            }
        }
    }
}
