//! What the derives write: names, keys, types, and code that does not depend on what is in scope.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use nepheline::prelude::*;
use nepheline::{BindValue, SqlType};

#[test]
fn names_come_from_rust_unless_given() {
    #[derive(Debug, Table)]
    #[nepheline(schema = "survey", table = "thin sections")]
    struct ThinSection {
        #[nepheline(key)]
        r#type: i64,
        #[nepheline(column = "Thickness µm")]
        thickness: Option<f32>,
    }
    let query = ThinSection::rows().filter(|t| t.thickness.is_null() & t.r#type.eq(3));
    insta::assert_snapshot!(query.sql(Dialect::MySql).unwrap());
    let info = ThinSection::INFO;
    assert_eq!((info.schema(), info.name()), (Some("survey"), "thin sections"));
    assert_eq!(info.key().map(|column| column.name()).collect::<Vec<_>>(), ["type"]);
    let thickness = &info.columns()[1];
    assert_eq!((thickness.sql_type(), thickness.is_nullable()), (SqlType::Real, true));
}

#[test]
fn names_are_said_once_for_reading_and_for_writing_out() {
    #[derive(Debug, Clone, Copy, Storable)]
    #[nepheline(serialize)]
    enum Cut {
        #[nepheline(text = "along the axis")]
        Axial,
    }

    #[derive(Debug, Storable)]
    #[nepheline(serialize)]
    struct SectionId(i64);

    #[derive(Debug, Table)]
    #[nepheline(table = "thin sections", serialize)]
    struct ThinSection {
        #[nepheline(key)]
        id: SectionId,
        #[nepheline(column = "Thickness µm")]
        thickness: Option<f64>,
        cut: Cut,
        #[nepheline(column = "polishedOn")]
        polished_on: Date,
    }

    #[derive(Debug, RowShape)]
    #[nepheline(serialize)]
    struct PerCut {
        cut: Cut,
        #[nepheline(column = "sectionCount")]
        sections: i64,
    }

    let section = ThinSection {
        id: SectionId(4),
        thickness: None,
        cut: Cut::Axial,
        polished_on: Date::constant(2024, 2, 29),
    };
    assert_eq!(
        serde_json::to_string(&section).unwrap(),
        r#"{"id":4,"Thickness µm":null,"cut":"along the axis","polishedOn":"2024-02-29"}"#,
    );
    let total = PerCut { cut: Cut::Axial, sections: 2 };
    assert_eq!(
        serde_json::to_string(&total).unwrap(),
        r#"{"cut":"along the axis","sectionCount":2}"#,
    );
    let totals =
        ThinSection::rows().select(|t| shape!(PerCut { cut: per(t.cut), sections: count() }));
    let text = totals.sql(Dialect::Sqlite).unwrap();
    assert!(text.text().contains(r#"AS "sectionCount""#), "{text}");
}

/// The generated code names everything by its full path, so nothing in scope can get in its way.
mod shadowed {
    #![allow(
        dead_code,
        non_snake_case,
        missing_docs,
        unreachable_pub,
        missing_debug_implementations,
        reason = "it has only to compile"
    )]

    pub struct Option;
    pub struct Result;
    pub struct String;
    pub struct Vec;
    pub struct Self_;
    pub trait Storable {}
    pub trait Table {}
    pub trait Into {}
    pub fn Some() {}
    pub fn None() {}
    pub fn Ok() {}
    pub fn Err() {}

    #[derive(Debug, ::nepheline::Table)]
    pub struct Drawer {
        #[nepheline(key)]
        pub id: i64,
        #[nepheline(unique)]
        pub kind: Kind,
    }

    #[derive(Debug, ::nepheline::Storable)]
    pub enum Kind {
        Ok,
        Err,
    }
}

#[test]
fn generated_code_does_not_depend_on_what_is_in_scope() {
    let sql = shadowed::Drawer::row_by_kind(shadowed::Kind::Ok)
        .sql(Dialect::Sqlite)
        .unwrap();
    assert_eq!(sql.binds(), [BindValue::Text("ok".into())]);
}
