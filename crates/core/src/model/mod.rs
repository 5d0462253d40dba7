//! What everything else is made of: tables, columns, types, values, cells of rows, functions, errors. It knows nothing of
//! queries.

pub(crate) mod carried;
pub(crate) mod error;
pub(crate) mod function;
pub(crate) mod key;
mod origin;
mod read;
pub(crate) mod row;
pub(crate) mod storable;
pub(crate) mod table;

pub use carried::{Carried, Clock, MissingValue, fill_of};
pub use error::{Error, ErrorKind};
pub use function::Function;
pub use key::{Key, KeyPart, KeyedRow};
pub use origin::Origin;
pub use read::{ReadColumn, read_table};
pub use row::{Cell, Cells, RowShape};
pub use storable::{
    BindValue, Collected, ColumnType, InJson, LentBind, List, MaybeNull, Mismatch, NeverNull,
    Nullable, Nullness, Sent, SentType, SqlType, Storable,
};
pub use table::{ColumnInfo, ColumnRole, Made, PolicyInfo, Reference, TableInfo};
