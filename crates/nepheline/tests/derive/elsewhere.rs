//! Code that reaches the derives through something else: a `macro_rules`, a module, another name of the crate.

use nepheline::prelude::*;

/// A crate that passes Nepheline on.
mod deps {
    pub(super) use nepheline as stones;
}

mod renamed {
    use super::deps::stones::prelude::*;
    use super::deps::stones::{shape, verbatim};

    #[derive(Debug, Table)]
    #[nepheline(crate = super::deps::stones, children(chips: Chip by rock_id))]
    pub(super) struct Rock {
        #[nepheline(key)]
        pub(super) id: i64,
        pub(super) grain: Grain,
    }

    #[derive(Debug, Table)]
    #[nepheline(crate = crate::elsewhere::deps::stones)]
    pub(super) struct Chip {
        #[nepheline(key, references = Rock)]
        pub(super) rock_id: i64,
    }

    #[derive(Debug, Storable)]
    #[nepheline(crate = super::deps::stones)]
    pub(super) struct Grain(f64);

    #[derive(Debug, RowShape)]
    #[nepheline(crate = super::deps::stones)]
    pub(super) struct GrainChips {
        pub(super) grain: Grain,
        pub(super) chips: i64,
    }

    pub(super) fn finest() -> super::deps::stones::Query<Rock, GrainChips> {
        Rock::rows().select(|r| {
            shape!(GrainChips {
                grain: verbatim!("abs({})", r.grain).typed::<Grain>(),
                chips: r.chips().count()
            })
        })
    }
}

#[test]
fn the_crate_may_have_another_name() {
    insta::assert_snapshot!(renamed::finest().sql(Dialect::Sqlite).unwrap());
}

/// Passes types, tables and fields on to the derive.
macro_rules! reference {
    ($name:ident, $field:ident: $ty:ty, $target:path, $by:ident, $parent:ident) => {
        #[derive(Debug, Table)]
        #[nepheline(optional_child(first: $name by $field = $field))]
        struct $name {
            #[nepheline(key)]
            id: i64,
            #[nepheline(references = $target by $by, called = $parent, unique)]
            $field: $ty,
        }
    };
}

#[derive(Debug, Table)]
struct Tin {
    #[nepheline(key)]
    id: i64,
    #[nepheline(unique)]
    label: String,
}

reference!(Lid, tin_label: Option<String>, Tin, label, of);

#[test]
fn a_macro_passes_tables_columns_and_options_on() {
    // A lid of no tin is found too: the join is a LEFT JOIN.
    let query = Lid::rows()
        .order_by(|l| l.of().map(|t| t.label).asc())
        .select(|l| l.id);
    insta::assert_snapshot!(query.sql(Dialect::Sqlite).unwrap().text());
    let query = Lid::rows().filter(|l| l.first().is_none());
    assert!(
        query
            .sql(Dialect::Sqlite)
            .unwrap()
            .text()
            .contains("LEFT JOIN")
    );
}

/// The type of a key may be private, though its table is not.
#[allow(unreachable_pub, reason = "the derive writes it as it would for a table of another crate")]
pub mod drawer {
    use nepheline::prelude::*;

    #[derive(Debug, Clone, Copy, Storable)]
    struct DrawerId(i64);

    #[derive(Debug, Table)]
    #[nepheline(children(inner: Drawer by outer_id))]
    pub struct Drawer {
        #[nepheline(key)]
        id: DrawerId,
        #[nepheline(references = Drawer)]
        outer_id: Option<DrawerId>,
    }

    pub(super) fn top() -> Query<Drawer> {
        Drawer::row(DrawerId(1)).filter(|d| d.outer().is_none())
    }
}

#[test]
fn the_type_of_a_key_may_be_private() {
    assert!(
        drawer::top()
            .sql(Dialect::Sqlite)
            .unwrap()
            .text()
            .contains("NULL")
    );
}

#[derive(Debug, RowShape)]
struct Totals {
    #[cfg(test)]
    tins: i64,
    #[cfg(not(test))]
    lids: i64,
}

#[test]
fn a_field_of_a_shape_may_depend_on_a_cfg() {
    let totals = Tin::rows().select(|_| {
        shape!(Totals {
            #[cfg(not(test))]
            lids: nothing,
            #[cfg(test)]
            tins: count(),
        })
    });
    let sql = totals.sql(Dialect::Sqlite).unwrap();
    assert_eq!(sql.text(), r#"SELECT count(*) AS "tins" FROM "tin""#);
}
