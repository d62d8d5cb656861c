//! The same frames in CBOR (RFC 8949): what JSON can say, and nothing else.

use ciborium::Value as Cbor;
use rendel_core::{Problem, ProblemKind};
use serde_json::{Map, Number, Value};

use crate::decode::{DEEPEST, DEEPEST_TOLD, too_deep};

/// Reads one CBOR item that a stranger sent: `malformed` for what JSON has no word for, `too-deep`
/// beyond 64 levels.
pub fn decode_cbor(bytes: &[u8]) -> Result<Value, Problem> {
    decode_cbor_within(DEEPEST, bytes)
}

/// As [`decode_cbor`], of a frame of the service, which may be nested more deeply.
pub fn decode_told_cbor(bytes: &[u8]) -> Result<Value, Problem> {
    decode_cbor_within(DEEPEST_TOLD, bytes)
}

fn decode_cbor_within(deepest: usize, mut bytes: &[u8]) -> Result<Value, Problem> {
    // The library counts the item itself as a level.
    let read = ciborium::de::from_reader_with_recursion_limit::<Cbor, _>(&mut bytes, deepest + 1);
    let item = read.map_err(|error| match error {
        ciborium::de::Error::RecursionLimitExceeded => too_deep(deepest),
        other => malformed(&format!("This is no CBOR item: {other}.")),
    })?;
    if !bytes.is_empty() {
        return Err(malformed(&format!(
            "{} bytes follow the item. A frame is one item.",
            bytes.len()
        )));
    }
    to_json(item, 0, deepest)
}

/// A value as CBOR. Numbers take the shortest form that holds them; members stay in their order.
pub fn encode_cbor(value: &Value) -> Vec<u8> {
    let mut bytes = Vec::new();
    // Writing to memory cannot fail.
    let _ = ciborium::into_writer(value, &mut bytes);
    bytes
}

/// JSON text as CBOR.
pub fn cbor_of_json(json: &str) -> Vec<u8> {
    encode_cbor(&serde_json::from_str(json).unwrap_or_default())
}

/// A `settled` frame joined from updates that are encoded already.
pub fn settled_frame_cbor(updates: &[&[u8]]) -> Vec<u8> {
    let mut frame =
        Vec::with_capacity(32 + updates.iter().map(|update| update.len()).sum::<usize>());
    frame.push(0xa2);
    for text in ["type", "settled", "updates"] {
        frame.push(0x60 | u8::try_from(text.len()).unwrap_or(0));
        frame.extend_from_slice(text.as_bytes());
    }
    // The head of an array, as section 3 of the RFC writes a length.
    let count = updates.len() as u64;
    match u8::try_from(count) {
        Ok(few @ 0..24) => frame.push(0x80 | few),
        Ok(some) => frame.extend_from_slice(&[0x98, some]),
        Err(_) => {
            frame.push(0x9b);
            frame.extend_from_slice(&count.to_be_bytes());
        }
    }
    updates.iter().for_each(|update| frame.extend_from_slice(update));
    frame
}

/// An item that lies in `depth` arrays and maps. The reader may let one level more pass than it is
/// told to.
fn to_json(item: Cbor, depth: usize, deepest: usize) -> Result<Value, Problem> {
    if depth >= deepest && matches!(item, Cbor::Array(_) | Cbor::Map(_)) {
        return Err(too_deep(deepest));
    }
    Ok(match item {
        Cbor::Null => Value::Null,
        Cbor::Bool(flag) => flag.into(),
        Cbor::Integer(number) => match (u64::try_from(number), i64::try_from(number)) {
            (Ok(number), _) => number.into(),
            (_, Ok(number)) => number.into(),
            _ => return Err(malformed("A whole number goes from -2^63 to 2^64 - 1.")),
        },
        Cbor::Float(number) => Value::Number(
            Number::from_f64(number).ok_or_else(|| malformed("A number must be finite."))?,
        ),
        Cbor::Text(text) => text.into(),
        Cbor::Array(items) => items
            .into_iter()
            .map(|item| to_json(item, depth + 1, deepest))
            .collect::<Result<_, _>>()?,
        Cbor::Map(members) => {
            let mut object = Map::new();
            for (name, value) in members {
                let Cbor::Text(name) = name else {
                    return Err(malformed("Members of a map are named by text."));
                };
                if object.insert(name, to_json(value, depth + 1, deepest)?).is_some() {
                    return Err(malformed("A map names each member once."));
                }
            }
            Value::Object(object)
        }
        Cbor::Bytes(_) => return Err(malformed("Byte strings have no JSON form; send text.")),
        Cbor::Tag(..) => return Err(malformed("Tags are not understood; send the plain value.")),
        _ => return Err(malformed("This simple value has no JSON form.")),
    })
}

fn malformed(detail: &str) -> Problem {
    Problem::new(ProblemKind::Malformed, detail)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{FromService, settled_frame};
    use serde_json::json;

    #[test]
    fn what_json_says_comes_back_the_same() {
        let value = json!({ "b": [1, -1, 2.5, 1e300, true, null, "ä🍎", {}], "a": u64::MAX, "c": i64::MIN });
        assert_eq!(decode_cbor(&encode_cbor(&value)).unwrap(), value);
    }

    #[test]
    fn what_json_has_no_word_for_is_refused() {
        let deep = |levels: usize| [vec![0x81; levels], vec![0x80]].concat();
        assert!(decode_cbor(&deep(63)).is_ok());
        assert_eq!(decode_cbor(&deep(64)).unwrap_err().kind(), ProblemKind::TooDeep);
        assert_eq!(decode_cbor(&deep(100_000)).unwrap_err().kind(), ProblemKind::TooDeep);
        let table: [(&[u8], &str); 9] = [
            (&[0x41, 0x00], "Byte strings"),
            (&[0xc1, 0x00], "Tags"),
            (&[0xa1, 0x01, 0x02], "named by text"),
            (&[0xa2, 0x61, b'a', 0x01, 0x61, b'a', 0x02], "once"),
            (&[0xf9, 0x7e, 0x00], "finite"),
            (&[0x01, 0x02], "bytes follow"),
            (&[0x3b, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff], "whole number"),
            (&[0x9b, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff], "no CBOR item"),
            (&[], "no CBOR item"),
        ];
        for (bytes, said) in table {
            let problem = decode_cbor(bytes).unwrap_err();
            assert!(
                problem.kind() == ProblemKind::Malformed && problem.detail().contains(said),
                "{bytes:x?}: {problem}"
            );
        }
    }

    #[test]
    fn joined_updates_read_as_the_same_frame_in_both_encodings() {
        let update = r#"{"seq":1,"by":"oda","client":"018f0000-0000-7000-8000-000000000001","n":1,"at":5,"effects":[]}"#;
        let encoded = cbor_of_json(update);
        for count in [0, 1, 23, 24, 255, 256, 70_000] {
            let frame = settled_frame_cbor(&vec![encoded.as_slice(); count]);
            let read = FromService::from_value(decode_cbor(&frame).unwrap()).unwrap();
            assert_eq!(
                read,
                FromService::decode(settled_frame(vec![update; count]).as_bytes()).unwrap()
            );
        }
    }
}
