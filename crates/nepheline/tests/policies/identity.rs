//! Policies and common table expressions keep their identity, so that none stands for another.

use nepheline::blocking::RunsQueries;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{Cte, cte};

use crate::support::engines;
use crate::world::AgencyId;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "guard_box", policies(in_a_seen_box, own_box))]
struct Crate {
    #[nepheline(key)]
    id: i64,
    agency_id: i64,
    inner_of: Option<i64>,
}

#[derive(Debug, PartialEq, RowShape)]
struct CrateId {
    id: i64,
}

fn own_box(c: CrateColumns, agency: &AgencyId) -> Condition {
    c.agency_id.eq(agency.0)
}

thread_local! {
    /// The expression that the policy and the program share.
    static LARGE: Cte<CrateId> =
        cte(Crate::rows().filter(|c| c.id.ge(2)).select(|c| shape!(CrateId { id: c.id }))).called("large");
}

fn large() -> Cte<CrateId> {
    LARGE.with(Clone::clone)
}

/// A policy over the crates themselves. It does not apply inside its own condition.
fn in_a_seen_box(c: CrateColumns) -> Condition {
    c.id.lt(2) | large().rows().filter(|l| c.inner_of.eq(l.id)).exists()
}

/// The expression inside the policy shows more rows than the one of the program, so they are two.
#[test]
fn an_expression_of_a_policy_and_of_the_program_is_not_one() {
    for engine in engines() {
        let db = engine.open().carrying(AgencyId(1));
        for text in [
            "DROP TABLE IF EXISTS guard_box",
            "CREATE TABLE guard_box (id BIGINT, agency_id BIGINT, inner_of BIGINT)",
        ] {
            db.run_text(text, vec![]).unwrap();
        }
        let row = |id, agency_id, inner_of| CrateToInsert { id, agency_id, inner_of };
        // Crate 3 is in no crate that is seen, and 5 belongs to another agency.
        let rows = [
            row(1, 1, None),
            row(2, 1, Some(3)),
            row(3, 1, None),
            row(4, 1, Some(9)),
            row(5, 2, Some(3)),
        ];
        db.write(
            &Crate::insert_all(rows)
                .waive_check(own_box)
                .waive_check(in_a_seen_box),
        )
        .unwrap();
        let own = large();
        let query = own.rows().order_by(|l| l.id.asc());
        assert_eq!(db.read(&query).unwrap(), [CrateId { id: 2 }], "on {}", engine.name);
        let both = Crate::rows()
            .filter(|c| own.rows().filter(|l| l.id.eq(c.id)).exists())
            .select(|c| c.id);
        assert_eq!(db.read(&both).unwrap(), [2], "on {}", engine.name);
        assert_eq!(db.count(&both).unwrap(), 1, "on {}", engine.name);
    }
}
