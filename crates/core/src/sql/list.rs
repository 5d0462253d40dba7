//! Lists as JSON arrays, for the dialects without an array type.

use serde::ser::{Error as _, Serialize, SerializeSeq, Serializer};

use crate::model::{BindValue, Error, List};

/// Writes `list` as a JSON array.
///
/// Floats have the fewest digits that read back as the same float. Types that JSON lacks are text: dates in
/// ISO 8601, UUIDs and decimals in their usual form, bytes in hexadecimal.
pub(super) fn to_json(list: &List, zone_mark: bool, longest_text: usize) -> Result<String, Error> {
    for item in list.items() {
        match item {
            BindValue::Float(x) if x.is_infinite() => {
                return Err(Error::refused_value(item, "lists of this dialect have no infinity"));
            }
            BindValue::Text(text)
                if text.len() > longest_text && text.chars().count() > longest_text =>
            {
                return Err(Error::refused_value(
                    item,
                    "this dialect compares at most 500 characters in a list below NOT or OR",
                ));
            }
            _ => {}
        }
    }
    serde_json::to_string(&Items { list, zone_mark }).map_err(|err| {
        Error::refused_value(&BindValue::List(Box::new(list.clone())), "").caused_by(err)
    })
}

/// Returns the length that a list counts as: the first of `lengths` that it fits in, or no limit. `None` if there are
/// none, so that its form does not depend on its length.
pub(crate) fn counted_length(list: &List, lengths: &[usize]) -> Option<usize> {
    // An empty list has no item to fill it up with.
    let fits = |length: &usize| (1..=*length).contains(&list.items().len());
    let counted = lengths.iter().copied().find(fits).unwrap_or(usize::MAX);
    (!lengths.is_empty()).then_some(counted)
}

struct Items<'a> {
    list: &'a List,
    zone_mark: bool,
}

impl Serialize for Items<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut sequence = serializer.serialize_seq(Some(self.list.items().len()))?;
        for item in self.list.items() {
            sequence.serialize_element(&Item { value: item, zone_mark: self.zone_mark })?;
        }
        sequence.end()
    }
}

struct Item<'a> {
    value: &'a BindValue,
    zone_mark: bool,
}

impl Serialize for Item<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.value {
            BindValue::Bool(value) => serializer.serialize_bool(*value),
            BindValue::Int(value) => serializer.serialize_i64(*value),
            BindValue::Float(value) => serializer.serialize_f64(*value),
            BindValue::Text(text) => serializer.serialize_str(text),
            BindValue::Bytes(bytes) => serializer.serialize_str(&hex::encode(bytes)),
            BindValue::Timestamp(_) if !self.zone_mark => {
                let text = self.value.plain_text().unwrap_or_default();
                serializer.serialize_str(text.trim_end_matches('Z'))
            }
            BindValue::Enum(kind, number) => serializer.serialize_str(kind.value(*number)),
            BindValue::Native(_, value) => serializer.serialize_str(&value.text()),
            value => match value.plain_text() {
                Some(text) => serializer.serialize_str(&text),
                None => Err(S::Error::custom("a list contains plain values only")),
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::to_json;
    use crate::model::{BindValue, ErrorKind, List, SqlType};

    fn text(text: &str) -> BindValue {
        BindValue::Text(text.into())
    }

    #[test]
    fn each_type_of_item_has_its_form() {
        let list = |sql_type, items: Vec<BindValue>| {
            to_json(&List::new(sql_type, items), true, usize::MAX)
        };
        let json = list(SqlType::Text, vec![text("a\"b"), text("Öst\\")]);
        assert_eq!(json.ok().as_deref(), Some(r#"["a\"b","Öst\\"]"#));
        let json = list(SqlType::Double, vec![BindValue::Float(0.1), BindValue::Float(1e300)]);
        assert_eq!(json.ok().as_deref(), Some("[0.1,1e+300]"));
        let json = list(SqlType::Bytes, vec![BindValue::Bytes(vec![0, 171, 255].into())]);
        assert_eq!(json.ok().as_deref(), Some(r#"["00abff"]"#));
        let json = list(SqlType::BigInt, vec![BindValue::Int(i64::MIN), BindValue::Int(7)]);
        assert_eq!(json.ok().as_deref(), Some("[-9223372036854775808,7]"));
        assert_eq!(list(SqlType::Boolean, Vec::new()).ok().as_deref(), Some("[]"));
    }

    #[test]
    fn what_a_list_cannot_hold_is_refused() {
        let infinite = List::new(SqlType::Double, vec![BindValue::Float(f64::INFINITY)]);
        let long = List::new(SqlType::Text, vec![text(&"ö".repeat(5))]);
        for (list, longest) in [(&infinite, usize::MAX), (&long, 4)] {
            let kind = to_json(list, true, longest).map_err(|err| err.kind());
            assert_eq!(kind, Err(ErrorKind::RefusedValue));
        }
        // The limit counts characters, not bytes.
        assert!(to_json(&long, true, 5).is_ok());
    }
}
