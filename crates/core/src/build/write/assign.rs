//! What columns are set to.

use crate::build::expr::{Column, MaybeOperand, Operand};
use crate::model::{BindValue, NeverNull, Storable};
use crate::tree::{Assignment, Node};

impl<T: Storable> Column<T> {
    /// Sets the column to a value, or to an expression of the row as it was before.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64, analyst_id: Option<i64> }
    /// let lower = Specimen::row(7).update(|s| (s.top_m.set(s.top_m + 0.5), s.analyst_id.set_null()));
    /// assert_eq!(
    ///     lower.sql(Dialect::Sqlite)?.text(),
    ///     r#"UPDATE "specimen" SET "top_m" = "specimen"."top_m" + ?, "analyst_id" = ? WHERE "specimen"."id" = ?"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    pub fn set(self, value: impl Operand<T, Null = NeverNull>) -> Assignment {
        Assignment { column: self.raw().info, value: value.into_operand() }
    }
}

impl<T: Storable> Column<Option<T>> {
    /// Sets the column to a value, or to an expression of the row as it was before.
    pub fn set(self, value: impl Operand<T>) -> Assignment {
        Assignment { column: self.raw().info, value: value.into_operand() }
    }

    /// Sets the column to the value that there may be: `None` is NULL.
    pub fn set_maybe(self, value: impl MaybeOperand<T>) -> Assignment {
        Assignment { column: self.raw().info, value: value.into_operand() }
    }

    /// Sets the column to NULL.
    pub fn set_null(self) -> Assignment {
        let value = Node::Bind(BindValue::Null(T::SQL_TYPE));
        Assignment { column: self.raw().info, value }
    }
}

/// What an update is given: an [`Assignment`], an `Option` of one, a tuple or a `Vec` of them.
#[diagnostic::on_unimplemented(
    message = "`{Self}` does not say what columns are set to",
    label = "expected `column.set(value)`, or a tuple of such"
)]
pub trait IntoAssignments {
    #[doc(hidden)]
    fn each(self, take: &mut dyn FnMut(Assignment));
}

impl IntoAssignments for Assignment {
    fn each(self, take: &mut dyn FnMut(Assignment)) {
        take(self);
    }
}

impl<A: IntoAssignments> IntoAssignments for Option<A> {
    fn each(self, take: &mut dyn FnMut(Assignment)) {
        if let Some(assignments) = self {
            assignments.each(take);
        }
    }
}

impl<A: IntoAssignments> IntoAssignments for Vec<A> {
    fn each(self, take: &mut dyn FnMut(Assignment)) {
        self.into_iter()
            .for_each(|assignments| assignments.each(take));
    }
}

macro_rules! assignments {
    ($($name:ident)+) => {
        impl<$($name: IntoAssignments),+> IntoAssignments for ($($name,)+) {
            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn each(self, take: &mut dyn FnMut(Assignment)) {
                let ($($name,)+) = self;
                $($name.each(take);)+
            }
        }
    };
}

for_each_tuple!(assignments, up_to_16);
