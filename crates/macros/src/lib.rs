//! The derives of Nepheline. **Depend on the crate `nepheline`, which re-exports them.**
//!
//! Each derive is a small compiler: `attr` parses the attributes, `name` checks the names that reach
//! the database, and `table` and `storable` parse the item, check it, and write the code. All
//! mistakes of an item are reported at once.

mod attr;
mod column;
mod name;
mod relation;
mod rules;
mod shape;
mod storable;
mod table;
mod verbatim;

use proc_macro::TokenStream;
use syn::{DeriveInput, parse_macro_input};

/// Makes a struct with named fields the rows of a table.
///
/// | attribute of the struct | meaning |
/// |---|---|
/// | `table = "name"` | the table's name, if it is not the struct's name in snake case |
/// | `schema = "name"` | the schema (on MariaDB and MySQL: the database) that the table is in |
/// | `children(assays: Assay by specimen_id)` | the rows of another table whose column is equal to this one's key, or to another field: `by label = name` |
/// | `child(collar: Collar by borehole_id)` | the same where there is at most one such row |
/// | `linked(hazards: Hazard via SpecimenHazard)` | the rows of another table that a table between leads to; that has one reference to each of the two |
/// | `references(tray: Tray by (shelf, slot))` | the row of another table whose key is equal to several fields |
/// | `policies(not_withdrawn, own_agency)` | functions whose conditions hold wherever the table appears, until they are waived; see `Policy` |
/// | `fill(agency_id = AgencyId)` | the column takes its value from what the handle carries: nobody gives it, and nobody sets it |
/// | `retire(withdrawn_at)` | a delete marks rows in this column with the time instead of deleting them |
/// | `retire(withdrawn_at, with(assays))` | and so it marks these children, whose table retires its rows too |
/// | `serialize` | serde writes rows out under the names of the columns, so that names are said once; dates, UUIDs and decimals need the feature `serde` |
///
/// | attribute of a field | meaning |
/// |---|---|
/// | `key` | the primary key, or on several fields, in their order, the parts of it |
/// | `generated` | the database makes the value on insert |
/// | `unique` | no two rows share a value |
/// | `column = "name"` | the column's name, if it is not the field's name |
/// | `version` | updates count in it, so that one can expect a version |
/// | `stamp = insert` | the time at which the row is inserted is put into it, by the handle's clock; with `stamp = write` that of the last insert or update |
/// | `references = Borehole` | the row of another table whose key is equal to this field; `references = Borehole by name` means another column of it that is unique |
/// | `called = hole` | what the reference is called, if not as the field without `_id` |
/// | `by_code_point` | the database itself compares this text by code point, so that an index serves order and ranges too: the column is declared `COLLATE "C"` on PostgreSQL, `utf8mb4_nopad_bin` on MariaDB, `utf8mb4_0900_bin` on MySQL, and without NOCASE or RTRIM on SQLite |
///
/// It implements `Table` and `RowShape`, and writes
///
/// - `SpecimenColumns`, the struct of typed columns that closures are given;
/// - `UnsavedSpecimen`, the struct of what an insert supplies, with `Specimen::insert(row)` and
///   `Specimen::insert_all(rows)`;
/// - `Specimen::rows()`, the query for all rows;
/// - `Specimen::row(key)`, the query for the row with this key: a tuple for a key of several columns;
/// - `Specimen::row_by_label(value)` for each field that is `unique`;
/// - a method for each relation, of the columns (`s.borehole().name`, `s.assays().exists()`) and of a
///   row in hand (`specimen.assays()`, the query for them). A reference that may be NULL leads to a
///   `Maybe` of a row.
///
/// Relations are compared where they are declared: a reference whose types do not fit does not compile.
///
/// Names are checked here: 1 to 63 bytes, no NUL, no letter above U+FFFF, no space at either end, and
/// no two columns that differ only in case. Everything else is allowed, and quoted.
#[proc_macro_derive(Table, attributes(nepheline))]
pub fn derive_table(input: TokenStream) -> TokenStream {
    table::derive(parse_macro_input!(input as DeriveInput)).into()
}

/// Makes a struct with named fields what rows are selected into.
///
/// Each field is the type of a column, or with `#[nepheline(nested)]` a whole row. With `shape!` a query
/// selects into it; the names of the fields name the values in the SQL, so that the rows can be asked
/// further as a query of their own, `from(query)`, through `RegionTotalColumns`.
///
/// With `#[nepheline(shaped_from(Specimen))]` on the struct, `Specimen::rows().shaped_as::<R>()` selects
/// the columns of the same names. They are checked where the struct is: a field that is no column there,
/// or has another type, does not compile.
///
/// `#[nepheline(column = "name")]` on a field gives the value another name in the SQL, and
/// `by_code_point` says of text that what is selected into it compares by code point already. With
/// `#[nepheline(serialize)]` on the struct serde writes rows out under the same names.
#[proc_macro_derive(RowShape, attributes(nepheline))]
pub fn derive_row_shape(input: TokenStream) -> TokenStream {
    shape::derive(parse_macro_input!(input as DeriveInput)).into()
}

/// Selects into a struct with `#[derive(RowShape)]`, written like its literal.
///
/// ```text
/// Specimen::rows().select(|s| shape!(RegionTotal { region: per(s.borehole().site().region), specimens: count() }))
/// ```
#[proc_macro]
pub fn shape(input: TokenStream) -> TokenStream {
    shape::expand(parse_macro_input!(input as shape::Literal)).into()
}

/// Makes a struct with one field, or an enum without fields, a type that columns can have.
///
/// The struct is stored as its field is: a typed id, a unit. The enum is stored as text: each
/// variant as its name in snake case, or as `#[nepheline(text = "...")]` on the variant says. With
/// `#[nepheline(serialize)]` on the type, serde writes its values out as they are stored.
#[proc_macro_derive(Storable, attributes(nepheline))]
pub fn derive_storable(input: TokenStream) -> TokenStream {
    storable::derive(parse_macro_input!(input as DeriveInput)).into()
}

/// A fragment of hand-written SQL, with expressions and values in it.
///
/// ```text
/// verbatim!("soundex({}) = soundex({wanted})", s.label).holds()
/// verbatim!(postgres: "random()", sqlite: "random()", mysql: "rand()").typed::<i64>()
/// ```
///
/// The text is a literal. `{}` stands for the next argument, `{0}` for one by its number, `{name}` for
/// a variable of that name, or for an argument given as `name = expression`; `{{` and `}}` are braces.
/// An argument is a column, an expression, a condition or a value; a value becomes a bind. Arguments
/// are put in brackets where they need them.
///
/// Before a literal a dialect may be named: `sqlite`, `postgres`, `mariadb`, `mysql` (MariaDB too,
/// unless it has a variant of its own). On a dialect without a variant the query is refused, as
/// `Unsupported`, naming this line.
///
/// What it makes needs a type: `.typed::<T>()` (an `Option` if it may be NULL), `.holds()` for a
/// condition, or `.typed_per_group::<T>()` for an aggregate. Nothing checks the type before a row arrives.
///
/// A placeholder, a comment, a semicolon or a bracket without its counterpart does not compile: the text
/// has to stay one expression. Text columns in it are compared as the database declares them, so write
/// the COLLATE that you need.
///
/// # Functions of your own
///
/// A database function gets its typed Rust form in one place, as a Rust function:
///
/// ```text
/// /// How a text sounds in English, as a letter and three digits.
/// pub fn soundex(text: impl Argument<Type = String>) -> Expr<String> {
///     verbatim!(sqlite: "soundex({text})", postgres: "soundex({text})", mysql: "SOUNDEX({text})").typed()
/// }
/// ```
#[proc_macro]
pub fn verbatim(input: TokenStream) -> TokenStream {
    verbatim::expand(parse_macro_input!(input as verbatim::Input)).into()
}
