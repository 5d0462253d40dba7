//! The derives of Nepheline. **Depend on the crate `nepheline`, which re-exports them.**
//!
//! Each derive is a small compiler: `attr` parses the attributes, `name` checks the names that reach the
//! database, and `table` and `storable` parse the item, check it, and write the code. All mistakes of an item
//! are reported at once.

mod attr;
mod call;
mod column;
mod crate_path;
mod decimal;
mod name;
mod parameters;
mod relation;
mod rules;
mod serde_impl;
mod shape;
mod storable;
mod table;
mod verbatim;

use proc_macro::TokenStream;
use syn::{DeriveInput, parse_macro_input};

use crate::crate_path::PassedOn;

/// Turns a struct with named fields into the rows of a table.
///
/// | attribute of the struct | meaning |
/// |---|---|
/// | `table = "name"` | the table's name, if it is not the struct's name in snake case |
/// | `schema = "name"` | the schema (on MariaDB and MySQL: the database) that the table is in |
/// | `children(assays: Assay by specimen_id)` | the rows of another table whose column equals this table's key, or another field: `by label = name` |
/// | `optional_child(collar: Collar by borehole_id)` | the same for at most one such row, as a `Maybe` |
/// | `bridged(hazards: Hazard across SpecimenHazard)` | the rows of another table over a bridge table, which has one reference to each of the two |
/// | `references(tray: Tray by (shelf, slot))` | the row of another table whose key equals several fields; `by (a, b) = (shelf, slot)` names other columns there |
/// | `unique(shelf, slot)` | no two rows have the same values in all of these fields; `unique(place: shelf, slot)` also gives `row_by_place(shelf, slot)` |
/// | `columns_begin = "inv_"` | the beginning of the names of all columns that `column = ".."` does not name |
/// | `to_insert(derive(Debug, Clone), deserialize)` | derives of `SpecimenToInsert`, and serde's `Deserialize` with the names of the columns |
/// | `changes(derive(Debug), deserialize)` | also writes `SpecimenChanges`, a partial update for `update_with`: every column that a program may set, as an `Option`; see `ChangeValues` |
/// | `policies(not_withdrawn, own_agency)` | functions whose conditions apply wherever the table appears, until they are waived; see `Policy` |
/// | `carried(agency_id = AgencyId)` | the column takes its value from what the handle carries: an insert does not give it, and an update cannot set it |
/// | `retire(withdrawn_at)` | soft delete: a delete sets this column to the time instead of deleting the row |
/// | `retire(withdrawn_at, with(assays))` | also retires these children, whose table must retire its rows too |
/// | `serialize`, `deserialize` | implement serde's traits with the names of the columns; dates, UUIDs and decimals need the feature `serde`; an unknown or missing field is an error |
/// | `crate = deps::nepheline` | the path to this crate, if it is not `::nepheline`: for a renamed dependency, or one that another crate re-exports |
///
/// | attribute of a field | meaning |
/// |---|---|
/// | `key` | the primary key; on several fields its parts, in their order |
/// | `generated` | the database generates the value on insert |
/// | `unique` | no two rows share a value |
/// | `column = "name"` | the column's name, if it is not the field's name |
/// | `version` | every update increments it, and can expect a version |
/// | `stamp = insert` | the time of the insert, from the handle's clock; `stamp = write` is the time of the last insert or update |
/// | `references = Borehole` | the row of another table whose key equals this field; `references = Borehole by name` names another unique column |
/// | `called = hole` | the name of the reference, if it is not the field's name without `_id` |
/// | `by_code_point` | the database itself compares this text by code point, so that an index serves order and ranges: the column is declared `COLLATE "C"` on PostgreSQL, `utf8mb4_nopad_bin` on MariaDB, `utf8mb4_0900_bin` on MySQL, and without NOCASE or RTRIM on SQLite |
/// | `approximate` | the column is NUMERIC or DECIMAL, and this `f64` or `f32` is the nearest float |
/// | `nondeterministic` | the column has a nondeterministic collation of PostgreSQL ("Nondeterministic Collations" in its manual), under which different texts are equal; every comparison is made by code point all the same |
///
/// It implements `Table` and `RowShape`, and writes
///
/// - `SpecimenColumns`, the struct of typed columns that closures receive;
/// - `SpecimenToInsert`, the struct that an insert takes, with `Specimen::insert(row)` and
///   `Specimen::insert_all(rows)`;
/// - `Specimen::rows()`, the query for all rows;
/// - `Specimen::row(key)`, the query for the row with this key: a tuple for a key of several columns;
/// - `Specimen::row_by_label(value)` for each field that is `unique`;
/// - a method for each relation, on the columns (`s.borehole().name`, `s.assays().exists()`) and on a row
///   (`specimen.assays()`, the query for them). A nullable reference returns a `Maybe`.
///
/// The types of both sides of a relation are compared where it is declared: a reference with unfit types does
/// not compile. Neither does a reference, or an `optional_child`, by columns that are not unique there: they
/// are a whole key, `unique`, or hold a set of columns that is. Whether a reference is nullable is read off
/// the type as it is written, so write `Option<..>` itself and not an alias of it.
///
/// The types of a role are checked too: a stamp and the mark of `retire` are times, a version is a whole
/// number, a carried value has the type of its column, and a key is never NULL.
///
/// A relation of a field `type_id` is the method `r#type`, because `type` is a keyword; that of `self_id` is
/// `self_`.
///
/// `#[allow(..)]` and `#[deprecated]` on the struct or a field apply to the generated code too.
///
/// Names are checked at compile time: 1 to 63 bytes, no NUL, no letter above U+FFFF, no space at either end,
/// and no two columns that differ only in case. Everything else is allowed, and quoted.
#[proc_macro_derive(Table, attributes(nepheline))]
pub fn derive_table(input: TokenStream) -> TokenStream {
    crate_path::derived(parse_macro_input!(input as DeriveInput), table::derive)
}

/// Turns a struct with named fields into a row shape, which queries select into.
///
/// Each field has a column type, or is a whole row with `#[nepheline(whole_row)]`. A query selects into it
/// with `shape!`. The names of the fields name the values in the SQL, so that the query can be used as a
/// table, `from(query)`, through `RegionTotalColumns`.
///
/// With `#[nepheline(shaped_from(Specimen))]` on the struct, `Specimen::rows().shaped_as::<R>()` selects the
/// columns of the same names. A field that is no column there, or has another type, does not compile.
///
/// `#[nepheline(column = "name")]` on a field gives the value another name in the SQL. `by_code_point`
/// declares that the selected text compares by code point. `#[nepheline(serialize)]` on the struct implements
/// serde's `Serialize` with the same names.
#[proc_macro_derive(RowShape, attributes(nepheline))]
pub fn derive_row_shape(input: TokenStream) -> TokenStream {
    crate_path::derived(parse_macro_input!(input as DeriveInput), shape::derive)
}

/// The macro behind `nepheline::shape!`, which passes it the path of the crate.
#[doc(hidden)]
#[proc_macro]
pub fn shape(input: TokenStream) -> TokenStream {
    parse_macro_input!(input as PassedOn<shape::Literal>).expand(shape::expand)
}

/// Turns a struct with one field, or an enum without fields, into a column type.
///
/// The struct is stored as its field: a typed id, a unit. The enum is stored as text: each variant as its
/// name in snake case, or as `#[nepheline(text = "...")]` on the variant says. With `#[nepheline(integer)]` on the enum it
/// is stored as its discriminants, in a column as wide as its `#[repr(..)]`, BIGINT without one; an enum with a `repr`
/// says which.
///
/// With `#[nepheline(database_type = "rock_kind")]` it is a value of that enum type of PostgreSQL, and of an ENUM or text
/// column of other engines. The type must have the order of the variants. Values then compare and sort in that order on
/// every engine; `min`, `max`, `least` and `greatest` of them are refused on other engines than PostgreSQL.
///
/// `#[nepheline(serialize)]` and `#[nepheline(deserialize)]` on the type implement serde's traits with the stored values.
#[proc_macro_derive(Storable, attributes(nepheline))]
pub fn derive_storable(input: TokenStream) -> TokenStream {
    crate_path::derived(parse_macro_input!(input as DeriveInput), storable::derive)
}

/// Turns a struct with named fields into the values of a prepared query; see `Prepared`.
///
/// It writes `ByDepthParameters` beside `ByDepth`: the same fields as bind parameters, which the closure of the query
/// receives. A field has a column type, or is a `Vec` of storable values, for `one_of` and `none_of`. `Vec<u8>` is one
/// value of bytes.
#[proc_macro_derive(BindParameters, attributes(nepheline))]
pub fn derive_bind_parameters(input: TokenStream) -> TokenStream {
    crate_path::derived(parse_macro_input!(input as DeriveInput), parameters::derive)
}

/// The macro behind `nepheline::verbatim!`, which passes it the path of the crate.
#[doc(hidden)]
#[proc_macro]
pub fn verbatim(input: TokenStream) -> TokenStream {
    parse_macro_input!(input as PassedOn<verbatim::Input>).expand(verbatim::expand)
}

/// The macro behind `nepheline::statement!`, which passes it the path of the crate.
#[doc(hidden)]
#[proc_macro]
pub fn statement(input: TokenStream) -> TokenStream {
    parse_macro_input!(input as PassedOn<verbatim::Input>).expand(verbatim::expand_statement)
}

/// The macro behind `nepheline::dec!`, which passes it the path of the crate.
#[doc(hidden)]
#[proc_macro]
pub fn dec(input: TokenStream) -> TokenStream {
    parse_macro_input!(input as PassedOn<decimal::Input>).expand(decimal::expand)
}

/// The macro behind `nepheline::call!`, which passes it the path of the crate.
#[doc(hidden)]
#[proc_macro]
pub fn call(input: TokenStream) -> TokenStream {
    parse_macro_input!(input as PassedOn<call::Input>).expand(call::expand)
}
