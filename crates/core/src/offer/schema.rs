//! The description of an offer as JSON Schema (draft 2020-12).

use serde_json::{Map, Value as Json, json};

use super::Offer;
use super::class::Class;
use super::names::{Entry, EntryKind, Names, ValueType};
use crate::build::query::Tables;
use crate::model::Accepted;

impl<T: Tables> Offer<T> {
    /// Describes the parameters of a request as JSON Schema: `filter`, `filter-lang`, `sortby` and `properties`. Under
    /// `$defs`, `queryables` has the names that a filter may use, with their types, descriptions and values.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use nepheline::{Offer, Offered};
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
    ///
    /// let depth = Offered::name("depth").described("metres below ground");
    /// let offer = Offer::of::<Specimen>().value(depth, |s| s.top_m).build()?;
    /// let schema = offer.json_schema();
    /// assert_eq!(schema["properties"]["sortby"]["pattern"], "^[+-]?(depth)(,[+-]?(depth))*$");
    /// assert_eq!(
    ///     schema["$defs"]["queryables"]["properties"]["depth"],
    ///     serde_json::json!({"type": "number", "description": "metres below ground"}),
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    pub fn json_schema(&self) -> Json {
        let names = &self.body.names;
        let mut queryables = Map::new();
        describe(names, "", &mut queryables);
        let values = names
            .entries
            .iter()
            .filter(|(_, entry)| !is_children(entry));
        let (mut sorted, mut all) = (Vec::new(), Vec::new());
        for (name, entry) in values {
            let escaped = name.replace('.', r"\.");
            let has_order = matches!(&entry.kind, EntryKind::Value(value) if value.is_comparable());
            if entry.sorted && has_order {
                sorted.push(escaped.clone());
            }
            all.push(escaped);
        }
        let mut properties = Map::new();
        let filter = "a condition in CQL2 (OGC 21-065r2) over the queryables";
        properties
            .insert("filter".into(), json!({"type": ["string", "object"], "description": filter}));
        properties.insert("filter-lang".into(), json!({"enum": ["cql2-text", "cql2-json"]}));
        let lists = [("sortby", sorted, "[+-]?"), ("properties", all, "")];
        for (parameter, names, sign) in lists.into_iter().filter(|(_, names, _)| !names.is_empty())
        {
            let one = format!("{sign}({})", names.join("|"));
            properties.insert(
                parameter.into(),
                json!({"type": "string", "pattern": format!("^{one}(,{one})*$")}),
            );
        }
        json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "type": "object",
            "properties": properties,
            "$defs": {
                "queryables": {
                    "type": "object",
                    "properties": queryables,
                    "additionalProperties": false,
                },
            },
        })
    }
}

fn is_children(entry: &Entry) -> bool {
    matches!(entry.kind, EntryKind::Children { .. })
}

fn describe(names: &Names, prefix: &str, described: &mut Map<String, Json>) {
    for (name, entry) in &names.entries {
        let name = match prefix {
            "" => name.to_string(),
            prefix => format!("{prefix}.{name}"),
        };
        match &entry.kind {
            EntryKind::Children { names, .. } => describe(names, &name, described),
            EntryKind::Value(value) => {
                let mut schema = schema_of(value);
                if let Some(description) = &entry.description {
                    schema.insert("description".into(), Json::from(description.as_str()));
                }
                described.insert(name, Json::Object(schema));
            }
        }
    }
}

fn schema_of(value: &ValueType) -> Map<String, Json> {
    let (kind, format) = match Class::of(value.sql_type) {
        Class::Boolean => ("boolean", None),
        Class::Whole => ("integer", None),
        Class::Decimal | Class::Float => ("number", None),
        Class::Text | Class::Enum(_) => ("string", None),
        Class::Date => ("string", Some("date")),
        Class::Time => ("string", Some("time")),
        Class::DateTime | Class::Timestamp => ("string", Some("date-time")),
        Class::Uuid => ("string", Some("uuid")),
        // Only IS NULL is allowed.
        Class::Opaque => ("", None),
    };
    let mut schema = Map::new();
    if !kind.is_empty() {
        schema.insert("type".into(), Json::from(kind));
    }
    if let Some(format) = format {
        schema.insert("format".into(), Json::from(format));
    }
    match value.accepted {
        Accepted::Texts(texts) => {
            schema.insert("enum".into(), Json::from(texts.to_vec()));
        }
        Accepted::Whole(least, greatest) if (least, greatest) != (i64::MIN, i64::MAX) => {
            schema.insert("minimum".into(), Json::from(least));
            schema.insert("maximum".into(), Json::from(greatest));
        }
        Accepted::Whole(..) | Accepted::Any => {}
    }
    schema
}
