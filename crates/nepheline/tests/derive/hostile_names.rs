//! Names that could get in the way of generated code: of fields, of types around it, and keywords.

use nepheline::BindValue;
use nepheline::prelude::*;

/// The generated code names everything by its full path, so nothing in scope can get in its way.
mod shadowed {
    #![no_implicit_prelude]
    #![allow(
        dead_code,
        non_snake_case,
        non_camel_case_types,
        missing_docs,
        unreachable_pub,
        missing_debug_implementations,
        reason = "it has only to compile"
    )]

    use ::nepheline::prelude::{per, shape, verbatim};

    pub struct Option;
    pub struct Result;
    pub struct String;
    pub struct Vec;
    pub struct Self_;
    pub struct str;
    pub struct bool;
    pub struct u8;
    pub struct usize;
    pub trait Storable {}
    pub trait Table {}
    pub trait Into {}
    pub trait Clone {}
    pub trait Copy {}
    pub fn Some() {}
    pub fn None() {}
    pub fn Ok() {}
    pub fn Err() {}
    pub fn drop() {}

    #[derive(::nepheline::Table)]
    #[nepheline(children(drawers: Drawer by cabinet_id), serialize)]
    pub struct Cabinet {
        #[nepheline(key)]
        pub id: i64,
    }

    #[derive(::nepheline::Table)]
    #[nepheline(serialize)]
    pub struct Drawer {
        #[nepheline(key)]
        pub id: i64,
        #[nepheline(unique)]
        pub kind: Kind,
        #[nepheline(references = Cabinet)]
        pub cabinet_id: i64,
    }

    #[derive(::nepheline::Storable)]
    #[nepheline(serialize)]
    pub enum Kind {
        Ok,
        Err,
    }

    /// The name of a type parameter.
    #[derive(::nepheline::Storable)]
    pub struct V(i64);

    #[derive(::nepheline::RowShape)]
    #[nepheline(shaped_from(Drawer))]
    pub struct PerId {
        pub id: i64,
    }

    #[derive(::nepheline::RowShape)]
    pub struct PerKind {
        pub kind: Kind,
        pub drawers: V,
    }

    pub fn per_kind() -> ::nepheline::Query<Drawer, PerKind, ::nepheline::PerGroup> {
        Drawer::rows().select(|d| {
            shape!(PerKind {
                kind: per(d.kind),
                drawers: verbatim!("count(*) + {}", 1_i64).typed_per_group::<V>(),
            })
        })
    }
}

#[test]
fn generated_code_does_not_depend_on_what_is_in_scope() {
    let sql = shadowed::Drawer::row_by_kind(shadowed::Kind::Ok)
        .sql(Dialect::Sqlite)
        .unwrap();
    assert_eq!(sql.binds(), [BindValue::Text("ok".into())]);
    let sql = shadowed::per_kind().sql(Dialect::Sqlite).unwrap();
    insta::assert_snapshot!(sql.text());
}

#[derive(Debug, Clone, Copy, Storable)]
struct AgencyId(i64);

/// Keywords as columns and as relations, and the names of the generated statics as a key and as unique columns.
#[derive(Debug, Table)]
#[allow(non_snake_case, reason = "names that the derive uses")]
#[nepheline(
    children(alike: Stone by type = type, r#dyn: Stone by in_id, made: Stone by gen),
    references(r#const: Stone by (self_id)),
    carried(type = AgencyId),
    retire(while)
)]
struct Stone {
    #[nepheline(key)]
    columns: i64,
    r#type: AgencyId,
    #[nepheline(unique, column = "upper")]
    COLUMNS: i64,
    #[nepheline(unique)]
    INFO: i64,
    #[nepheline(references = Stone)]
    self_id: i64,
    #[nepheline(references = Stone)]
    r#in_id: i64,
    #[nepheline(references = Stone by columns, called = match)]
    r#loop: Option<i64>,
    r#while: Option<Timestamp>,
    #[nepheline(references = Stone, called = maker)]
    r#gen: Option<i64>,
}

#[test]
fn keywords_and_names_of_generated_code_are_names_too() {
    let query = Stone::rows()
        .filter(|s| s.self_().COLUMNS.eq(1) & s.r#in().r#const().INFO.eq(2))
        .filter(|s| s.r#match().is_none() & s.alike().exists() & !s.r#dyn().exists())
        .select(|s| s.columns);
    insta::assert_snapshot!(query.sql(Dialect::Sqlite).unwrap());
    for query in [Stone::row(1), Stone::row_by_COLUMNS(2), Stone::row_by_INFO(3)] {
        assert_eq!(query.sql(Dialect::Sqlite).unwrap().binds().len(), 1);
    }
}

mod nested {
    pub(super) mod deep {
        #[derive(Debug, nepheline::Table)]
        pub(crate) struct Label {
            #[nepheline(key)]
            pub(crate) id: i64,
        }
    }

    /// A table of the same name.
    #[derive(Debug, nepheline::Table)]
    #[nepheline(table = "other_label")]
    pub(crate) struct Label {
        #[nepheline(key)]
        pub(crate) id: i64,
    }
}

/// One target by two paths, and another target of the same name.
#[derive(Debug, Table)]
struct Sticker {
    #[nepheline(key, references = nested::deep::Label, called = front)]
    front_id: i64,
    #[nepheline(references = self::nested::deep::Label, called = back)]
    back_id: i64,
    #[nepheline(references = nested::Label)]
    side_id: i64,
    #[nepheline(references = Sheet)]
    sheet_id: i64,
}

#[derive(Debug, Table)]
#[nepheline(bridged(labels: nested::Label across Sticker))]
struct Sheet {
    #[nepheline(key)]
    id: i64,
}

#[test]
fn one_target_may_have_two_paths_and_two_targets_one_name() {
    let query = Sheet::rows().filter(|s| s.labels().exists());
    insta::assert_snapshot!(query.sql(Dialect::Sqlite).unwrap());
}
