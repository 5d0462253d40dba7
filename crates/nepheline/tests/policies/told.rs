//! The list of policies of a statement, and the messages about them.

use nepheline::prelude::*;

use crate::world::*;

mod circle {
    //! Tables whose policies refer to each other.

    use nepheline::prelude::*;

    #[derive(Debug, Table)]
    #[nepheline(table = "ring_left", children(rights: Right by left_id), policies(has_right))]
    pub(super) struct Left {
        #[nepheline(key)]
        pub(super) id: i64,
    }

    #[derive(Debug, Table)]
    #[nepheline(table = "ring_right", policies(has_left))]
    pub(super) struct Right {
        #[nepheline(key)]
        pub(super) id: i64,
        #[nepheline(references = Left)]
        pub(super) left_id: i64,
    }

    /// Leads to itself through a query that has a name.
    #[derive(Debug, Table)]
    #[nepheline(table = "ring_self", policies(not_the_last))]
    pub(super) struct Itself {
        #[nepheline(key)]
        pub(super) id: i64,
    }

    #[derive(Debug, RowShape)]
    #[allow(dead_code, reason = "only the database reads it")]
    struct Last {
        id: i64,
    }

    fn not_the_last(s: ItselfColumns) -> Condition {
        let all = cte(Itself::rows().select(|s| shape!(Last { id: s.id })));
        all.rows().filter(|other| other.id.gt(s.id)).exists()
    }

    fn has_right(l: LeftColumns) -> Condition {
        l.rights().exists()
    }

    fn has_left(r: RightColumns) -> Condition {
        r.left().id.gt(0)
    }
}

/// The waivers of queries, as they are listed, and those that are refused.
#[test]
fn policies_are_told() {
    let carried = Carried::new().with(AgencyId(1));
    let told = |sql: Result<nepheline::Sql, Error>| match sql {
        Ok(sql) => {
            let met = sql.policies().iter().map(|met| format!("\n  {met}"));
            format!("{}\n{}", sql.text(), met.collect::<String>().trim_start_matches('\n'))
        }
        Err(err) => err.to_string(),
    };
    let of =
        |query: nepheline::Query<Specimen>| told(query.sql_carrying(Dialect::Postgres, &carried));
    let here = |query: nepheline::Query<Specimen>| told(query.sql(Dialect::Postgres));
    let shown = [
        of(Specimen::row(7)),
        of(Specimen::row(7).waive(not_withdrawn)),
        of(Specimen::row(7)
            .waive(not_withdrawn)
            .filter(|s| s.parts().exists())),
        of(Specimen::row(7)
            .waive_everywhere(not_withdrawn)
            .filter(|s| s.parts().exists())),
        of(Specimen::row(7).filter(|s| s.parts().waive(not_withdrawn).not_exists())),
        of(Specimen::row(7).waive_every_policy()),
        // Waived inside of a scope: there alone.
        of(Specimen::row(7).filter(|s: SpecimenColumns| {
            let any = Specimen::rows().waive(not_withdrawn).waive(of_borehole);
            any.filter(|other| other.parent_id.eq(s.id)).exists()
        })),
        // Left out for a joined table, and for it alone.
        told(
            Borehole::rows()
                .join(|b| {
                    Specimen::rows()
                        .waive_every_policy()
                        .filter(|s| s.borehole_id.eq(b.id))
                })
                .sql_carrying(Dialect::Postgres, &carried),
        ),
        of(Specimen::row(7).waive(own_agency)),
        here(Specimen::row(7)),
        here(Specimen::row(7).waive_everywhere(own_agency)),
        told(circle::Left::rows().sql(Dialect::Postgres)),
        told(circle::Right::rows().sql(Dialect::Postgres)),
        told(circle::Itself::rows().sql(Dialect::Postgres)),
    ];
    insta::assert_snapshot!(shown.join("\n\n"));
}
