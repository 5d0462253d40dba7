//! The generated code warns of nothing, and has the lints of its struct.

#![deny(
    warnings,
    let_underscore_drop,
    deprecated,
    clippy::all,
    clippy::pedantic,
    reason = "the test"
)]
#![allow(clippy::needless_pass_by_value, clippy::struct_field_names, reason = "of the test")]

use nepheline::prelude::*;

#[derive(Debug, Table)]
#[nepheline(children(leaves: Leaf by folder_id), retire(closed_at))]
#[deprecated = "folders are gone"]
#[allow(non_snake_case, reason = "generated fields and functions have the lint too")]
pub(crate) struct Folder {
    #[nepheline(key)]
    pub(crate) id: i64,
    #[nepheline(unique)]
    pub(crate) nameOfOld: String,
    pub(crate) closed_at: Option<Timestamp>,
}

#[derive(Debug, Table)]
#[allow(deprecated, reason = "a reference to a table that is deprecated")]
pub(crate) struct Leaf {
    #[nepheline(key, references = Folder)]
    pub(crate) folder_id: i64,
    #[deprecated = "written on the back"]
    pub(crate) note: Option<String>,
}

#[derive(Debug, RowShape)]
#[nepheline(shaped_from(Leaf))]
#[deprecated = "folders are gone"]
pub(crate) struct Notes {
    pub(crate) folder_id: i64,
}

#[test]
#[allow(deprecated, reason = "the test")]
fn what_is_deprecated_can_be_used_where_that_is_allowed() {
    let query = Leaf::rows().filter(|l| l.folder().nameOfOld.eq("A") & l.note.is_null());
    assert!(
        query
            .sql(Dialect::Sqlite)
            .unwrap()
            .text()
            .contains("IS NULL")
    );
    assert!(
        Leaf::rows()
            .shaped_as::<Notes>()
            .sql(Dialect::Sqlite)
            .is_ok()
    );
}

#[derive(Debug, RowShape)]
pub(crate) struct PerFolder {
    pub(crate) folder_id: i64,
    pub(crate) leaves: i64,
}

#[test]
fn macros_warn_of_nothing() {
    let query = Leaf::rows()
        .filter(|l| verbatim!("{} % 2 = 0", l.folder_id).condition())
        .select(|l| shape!(PerFolder { folder_id: per(l.folder_id), leaves: count() }));
    assert!(query.sql(Dialect::Sqlite).unwrap().text().contains("% 2"));
}
