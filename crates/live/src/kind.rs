//! The kinds of values that the engines' types store, and the Rust types that store them.

use nepheline::{Dialect, NativeType, SqlType};

use crate::catalog::CatalogColumn;

/// The kind of values that a column stores.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Kind {
    Boolean,
    /// An integer with a number of bits; an unsigned one has one more.
    Whole {
        bits: u32,
        unsigned: bool,
    },
    Single,
    Double,
    Decimal,
    Text,
    Bytes,
    Date,
    Time,
    DateTime,
    Timestamp,
    Uuid,
    Json,
    Enum,
    Array(Box<Kind>),
    Inet,
    Interval,
    Range(Box<Kind>),
    /// A column of SQLite without a type, or with one that says little.
    Anything,
    /// A column of SQLite that turns texts of digits into numbers.
    NumericAffinity,
    Unknown,
}

impl Kind {
    /// Returns what a column stores.
    pub(crate) fn of(dialect: Dialect, column: &CatalogColumn) -> Kind {
        match column.enum_values.is_empty() {
            true => Kind::of_type(dialect, &column.database_type),
            false => Kind::Enum,
        }
    }

    pub(crate) fn of_type(dialect: Dialect, database_type: &str) -> Kind {
        let lower = database_type.to_ascii_lowercase();
        match dialect {
            Dialect::Sqlite => Kind::of_sqlite(&lower),
            Dialect::Postgres => Kind::of_postgres(&lower),
            _ => Kind::of_mariadb(&lower),
        }
    }

    /// Returns what a column of a result stores, whose type is named by the driver.
    pub(crate) fn of_result(dialect: Dialect, name: &str) -> Kind {
        let formal = |name: &str| {
            match name {
                "bool" => "boolean",
                "int2" => "smallint",
                "int4" => "integer",
                "int8" => "bigint",
                "float4" => "real",
                "float8" => "double precision",
                "varchar" => "character varying",
                "bpchar" => "character",
                "timestamptz" => "timestamp with time zone",
                other => other,
            }
            .to_owned()
        };
        match (dialect, name.strip_prefix('_')) {
            (Dialect::Postgres, Some(item)) => Kind::of_postgres(&format!("{}[]", formal(item))),
            (Dialect::Postgres, None) => Kind::of_postgres(&formal(name)),
            _ => Kind::of_type(dialect, name),
        }
    }

    fn of_sqlite(lower: &str) -> Kind {
        let begins = |words: &[&str]| words.iter().any(|word| lower.starts_with(word));
        match lower {
            "" | "any" => Kind::Anything,
            _ if begins(&["bool"]) => Kind::Boolean,
            _ if begins(&["timestamp with time zone"]) => Kind::Timestamp,
            _ if begins(&["datetime", "timestamp"]) => Kind::DateTime,
            _ if begins(&["date"]) => Kind::Date,
            _ if begins(&["time"]) => Kind::Time,
            _ if begins(&["uuid"]) => Kind::Uuid,
            _ if begins(&["json"]) => Kind::Json,
            // Decimals whose affinity is that of text.
            _ if begins(&["decimal", "numeric"]) && lower.contains("text") => Kind::Decimal,
            // The rules of "Datatypes In SQLite", Determination Of Column Affinity.
            _ if lower.contains("int") => Kind::Whole { bits: 64, unsigned: false },
            _ if ["char", "clob", "text"]
                .iter()
                .any(|word| lower.contains(word)) =>
            {
                Kind::Text
            }
            _ if lower.contains("blob") => Kind::Bytes,
            _ if ["real", "floa", "doub"]
                .iter()
                .any(|word| lower.contains(word)) =>
            {
                Kind::Double
            }
            _ => Kind::NumericAffinity,
        }
    }

    fn of_postgres(lower: &str) -> Kind {
        if let Some(item) = lower.strip_suffix("[]") {
            return Kind::Array(Box::new(Kind::of_postgres(item)));
        }
        let base = lower.split('(').next().unwrap_or_default().trim();
        let whole = |bits| Kind::Whole { bits, unsigned: false };
        match base {
            "boolean" => Kind::Boolean,
            "smallint" => whole(16),
            "integer" => whole(32),
            "bigint" => whole(64),
            "real" => Kind::Single,
            "double precision" => Kind::Double,
            "numeric" => Kind::Decimal,
            "text" | "character varying" | "character" | "name" => Kind::Text,
            "bytea" => Kind::Bytes,
            "date" => Kind::Date,
            "time" => {
                if lower.ends_with("with time zone") {
                    Kind::Unknown
                } else {
                    Kind::Time
                }
            }
            "time without time zone" => Kind::Time,
            "timestamp" if lower.ends_with("with time zone") => Kind::Timestamp,
            "timestamp with time zone" => Kind::Timestamp,
            "timestamp" | "timestamp without time zone" => Kind::DateTime,
            "uuid" => Kind::Uuid,
            "json" | "jsonb" => Kind::Json,
            "inet" => Kind::Inet,
            "interval" => Kind::Interval,
            "daterange" => Kind::Range(Box::new(Kind::Date)),
            "tsrange" => Kind::Range(Box::new(Kind::DateTime)),
            "tstzrange" => Kind::Range(Box::new(Kind::Timestamp)),
            "int4range" => Kind::Range(Box::new(whole(32))),
            "int8range" => Kind::Range(Box::new(whole(64))),
            _ => Kind::Unknown,
        }
    }

    fn of_mariadb(lower: &str) -> Kind {
        let base = lower.split(['(', ' ']).next().unwrap_or_default();
        let unsigned = lower.contains("unsigned");
        let whole = |bits| Kind::Whole { bits, unsigned };
        match base {
            "tinyint" if lower.starts_with("tinyint(1)") => Kind::Boolean,
            "bit" if lower == "bit(1)" => Kind::Boolean,
            "tinyint" => whole(8),
            "smallint" | "year" => whole(16),
            "mediumint" | "int" | "integer" => whole(32),
            "bigint" => whole(64),
            "float" => Kind::Single,
            "double" => Kind::Double,
            "decimal" => Kind::Decimal,
            "char" | "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" | "set" => {
                Kind::Text
            }
            "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" => Kind::Bytes,
            "date" => Kind::Date,
            "time" => Kind::Time,
            "datetime" => Kind::DateTime,
            // A TIMESTAMP is converted to the time zone of the session, which the library sets to UTC.
            "timestamp" => Kind::Timestamp,
            "uuid" => Kind::Uuid,
            "json" => Kind::Json,
            "enum" => Kind::Enum,
            "inet4" | "inet6" => Kind::Inet,
            _ => Kind::Unknown,
        }
    }

    /// Returns the Rust type that stores it, without `Option`.
    pub(crate) fn rust_type(&self) -> Option<String> {
        Some(match self {
            Kind::Boolean => "bool".into(),
            Kind::Whole { bits: 8, unsigned: false } => "i8".into(),
            Kind::Whole { bits: 16, unsigned: false } => "i16".into(),
            Kind::Whole { bits: 8, unsigned: true } => "u8".into(),
            Kind::Whole { bits: 16, unsigned: true } => "u16".into(),
            Kind::Whole { bits: 32, unsigned: false } => "i32".into(),
            Kind::Whole { bits: 32, unsigned: true } => "u32".into(),
            Kind::Whole { .. } => "i64".into(),
            Kind::Single => "f32".into(),
            Kind::Double => "f64".into(),
            Kind::Decimal | Kind::NumericAffinity => "Decimal".into(),
            Kind::Text | Kind::Enum => "String".into(),
            Kind::Bytes => "Vec<u8>".into(),
            Kind::Date => "Date".into(),
            Kind::Time => "Time".into(),
            Kind::DateTime => "DateTime".into(),
            Kind::Timestamp => "Timestamp".into(),
            Kind::Uuid => "Uuid".into(),
            Kind::Json => "Json".into(),
            Kind::Array(item) => format!("Array<{}>", item.rust_type()?),
            Kind::Inet => "IpAddr".into(),
            Kind::Interval => "Span".into(),
            Kind::Range(item) => format!("RangeOf<{}>", item.rust_type()?),
            Kind::Anything => "String".into(),
            Kind::Unknown => return None,
        })
    }

    /// Compares it with the type of a field.
    pub(crate) fn fit(&self, dialect: Dialect, sql_type: SqlType, is_approximate: bool) -> Fit {
        let is_sqlite = dialect == Dialect::Sqlite;
        let fits = |is_so: bool| if is_so { Fit::Yes } else { Fit::No };
        match (self, sql_type) {
            (Kind::Anything, _) => Fit::Yes,
            (Kind::Unknown, _) => Fit::Unknown,
            (Kind::Decimal | Kind::NumericAffinity, SqlType::Double | SqlType::Real) => {
                match is_approximate {
                    true => Fit::Yes,
                    false if *self == Kind::NumericAffinity => Fit::Yes,
                    false => Fit::Exact,
                }
            }
            (Kind::NumericAffinity, SqlType::Decimal) => Fit::Affinity,
            (Kind::NumericAffinity, _) => Fit::Unknown,
            (Kind::Boolean, SqlType::Boolean) => Fit::Yes,
            // SQLite stores every integer alike, and a boolean as one; so do older schemas of MariaDB.
            (Kind::Whole { .. }, SqlType::Boolean) => fits(dialect != Dialect::Postgres),
            (Kind::Boolean, SqlType::SmallInt) => fits(dialect != Dialect::Postgres),
            (Kind::Whole { .. }, SqlType::SmallInt | SqlType::Integer | SqlType::BigInt)
                if is_sqlite =>
            {
                Fit::Yes
            }
            (
                Kind::Whole { bits, unsigned },
                SqlType::SmallInt | SqlType::Integer | SqlType::BigInt,
            ) => {
                let field = match sql_type {
                    SqlType::SmallInt => 16,
                    SqlType::Integer => 32,
                    _ => 64,
                };
                match bits + u32::from(*unsigned) <= field {
                    true => Fit::Yes,
                    // The library reads no number above the largest `i64`.
                    false if *bits == 64 && field == 64 => Fit::Yes,
                    false => Fit::Wider,
                }
            }
            (Kind::Single, SqlType::Real | SqlType::Double) => Fit::Yes,
            (Kind::Double, SqlType::Double) => Fit::Yes,
            (Kind::Double, SqlType::Real) => {
                if is_sqlite {
                    Fit::Yes
                } else {
                    Fit::Wider
                }
            }
            (Kind::Decimal, SqlType::Decimal) => Fit::Yes,
            (Kind::Whole { .. } | Kind::Text, SqlType::Decimal) => fits(is_sqlite),
            (Kind::Whole { .. }, SqlType::Double) => fits(is_sqlite),
            (Kind::Text, SqlType::Text) => Fit::Yes,
            (Kind::Text, SqlType::Enum(_)) => fits(dialect != Dialect::Postgres),
            (Kind::Enum, SqlType::Enum(_)) => Fit::Yes,
            (Kind::Enum, SqlType::Text) => fits(dialect != Dialect::Postgres),
            (Kind::Text, SqlType::Native(_)) => fits(dialect != Dialect::Postgres),
            (
                Kind::Text,
                SqlType::Date
                | SqlType::Time
                | SqlType::DateTime
                | SqlType::Timestamp
                | SqlType::Uuid,
            ) => fits(is_sqlite),
            (Kind::Text, SqlType::Json) => fits(dialect != Dialect::Postgres),
            (Kind::Bytes, SqlType::Bytes) => Fit::Yes,
            (Kind::Bytes, SqlType::Uuid) => fits(dialect == Dialect::MySql),
            (Kind::Date, SqlType::Date) | (Kind::Time, SqlType::Time) => Fit::Yes,
            (Kind::DateTime, SqlType::DateTime) => Fit::Yes,
            (Kind::DateTime, SqlType::Timestamp) => fits(dialect != Dialect::Postgres),
            (Kind::Timestamp, SqlType::Timestamp) => Fit::Yes,
            (Kind::Timestamp, SqlType::DateTime) => fits(dialect != Dialect::Postgres),
            (Kind::Uuid, SqlType::Uuid) | (Kind::Json, SqlType::Json) => Fit::Yes,
            (Kind::Json, SqlType::Native(NativeType::Array(_))) => {
                fits(dialect != Dialect::Postgres)
            }
            (Kind::Inet, SqlType::Native(NativeType::Inet)) => fits(dialect == Dialect::Postgres),
            (Kind::Interval, SqlType::Native(NativeType::Interval)) => Fit::Yes,
            (Kind::Array(item), SqlType::Native(NativeType::Array(of)))
            | (Kind::Range(item), SqlType::Native(NativeType::Range(of))) => {
                item.fit(dialect, *of, false)
            }
            _ => Fit::No,
        }
    }
}

/// The answer to the question if a field's type stores the values of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fit {
    Yes,
    No,
    /// The column holds numbers that the field does not.
    Wider,
    /// The column holds exact numbers, and the field the nearest float.
    Exact,
    /// The column turns the texts of decimals into floats.
    Affinity,
    /// The engine does not tell enough.
    Unknown,
}
