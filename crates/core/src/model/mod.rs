//! The parts that everything else uses: tables, columns, types, values, cells of rows, functions, errors.
//! This module knows nothing of queries.

pub(crate) mod carried;
pub(crate) mod error;
mod error_hand_written;
pub(crate) mod function;
pub(crate) mod key;
pub(crate) mod made;
mod matched;
mod mistake;
mod origin;
mod read;
mod role;
pub(crate) mod row;
mod serial;
pub(crate) mod storable;
pub(crate) mod table;

pub(crate) use carried::RequiredValue;
pub use carried::{Carried, CarriedFor, Clock, MissingValue, carried_value, is_carried_by};
pub use error::{Error, ErrorKind};
pub use function::Function;
pub use key::{Key, KeyPart, KeyedRow};
pub use matched::{ByName, NoRow, WantedColumns, name_columns, type_columns};
pub(crate) use mistake::Place;
pub use mistake::{Mistake, MistakeKind};
pub use origin::Origin;
pub use read::{ReadColumn, ReadReference, ReadTable, read_table, read_tables};
pub use role::{
    ColumnRole, ValueSource, is_float, is_mark, is_never_null, is_nullable, is_text, is_time,
    is_unique, is_whole_number,
};
pub use row::{Cell, Cells, NativeText, RowShape};
pub use serial::{deserialize_stored, missing_field};
pub use storable::{
    Accepted, Array, BindValue, ColumnType, EnumType, FieldValue, InJson, JsonDocument, LentBind,
    List, MaybeNull, Mismatch, NativeType, NativeValue, NeverNull, Nullable, Nullness, RangeItem,
    RangeOf, Sent, SentType, SqlType, Storable, StoredAsJson, TakesValues, exact_text,
    interval_text,
};
pub(crate) use storable::{Borrower, Measure, ParameterBind, ParameterForm};
pub(crate) use table::is_same;
pub use table::{ColumnInfo, PolicyInfo, Reference, TableInfo, TableSlot};
