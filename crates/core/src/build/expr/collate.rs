//! Orders that people read: by a collation of the database.

use super::{ExprExt, Level, Order};
use crate::model::{ColumnType, SqlType, made};
use crate::tree::Node;

/// A collation by its name on each engine, for [`TextExt::collate`](crate::TextExt::collate).
///
/// ```
/// use nepheline::Collation;
///
/// const GERMAN: Collation = Collation::named("de-x-icu").mariadb("utf8mb4_german2_ci").sqlite("NOCASE");
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Collation {
    sqlite: &'static str,
    postgres: &'static str,
    mariadb: &'static str,
    mysql: &'static str,
}

impl Collation {
    /// Returns the collation that has this name on every engine for which no other one is given.
    pub const fn named(name: &'static str) -> Collation {
        Collation { sqlite: name, postgres: name, mariadb: name, mysql: name }
    }

    /// Gives its name on SQLite: `NOCASE`, or one that the program registers on each connection.
    #[must_use]
    pub const fn sqlite(self, name: &'static str) -> Collation {
        Collation { sqlite: name, ..self }
    }

    /// Gives its name on PostgreSQL, such as `de-x-icu`.
    #[must_use]
    pub const fn postgres(self, name: &'static str) -> Collation {
        Collation { postgres: name, ..self }
    }

    /// Gives its name on MariaDB, such as `utf8mb4_german2_ci`.
    #[must_use]
    pub const fn mariadb(self, name: &'static str) -> Collation {
        Collation { mariadb: name, ..self }
    }

    /// Gives its name on MySQL, such as `utf8mb4_de_pb_0900_ai_ci`.
    #[must_use]
    pub const fn mysql(self, name: &'static str) -> Collation {
        Collation { mysql: name, ..self }
    }
}

/// The collation that has this name on every engine.
impl From<&'static str> for Collation {
    fn from(name: &'static str) -> Collation {
        Collation::named(name)
    }
}

/// Text in the order of a collation; made by [`TextExt::collate`](crate::TextExt::collate).
#[derive(Debug, Clone)]
#[must_use = "a collation does nothing until it is ordered by"]
pub struct InCollation<E> {
    text: E,
    collation: Collation,
}

impl<E: ExprExt<Level: Level>> InCollation<E> {
    pub(super) fn new(text: E, collation: Collation) -> InCollation<E> {
        InCollation { text, collation }
    }

    /// Returns the ascending order, NULLs last.
    pub fn asc(self) -> Order<E::Level> {
        self.order(false)
    }

    /// Returns the descending order, NULLs last.
    pub fn desc(self) -> Order<E::Level> {
        self.order(true)
    }

    fn order(self, descending: bool) -> Order<E::Level> {
        let Collation { sqlite, postgres, mariadb, mysql } = self.collation;
        let collation = made::collation([sqlite, postgres, mariadb, mysql]);
        let by = Node::call(collation, SqlType::Text, [self.text.into_node()]);
        Order::new(by, E::Type::NULLABLE, descending)
    }
}
