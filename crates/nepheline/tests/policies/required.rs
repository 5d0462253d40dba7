//! Handles that require policies refuse whatever stands outside them.

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline::{Verbatim, recursive};

use crate::alone;
use crate::checks::worlds;
use crate::support::engines;
use crate::world::*;

/// A second struct over the table of specimens, without their policies.
#[derive(Debug, Table)]
#[nepheline(table = "guard_specimen")]
struct Weight {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Specimen)]
    parent_id: Option<i64>,
    grams: i64,
}

/// A table that all agencies share.
#[derive(Debug, PartialEq, Table)]
#[nepheline(table = "guard_tag", open_to_all)]
struct SharedTag {
    #[nepheline(key)]
    id: i64,
}

#[derive(Debug, RowShape)]
struct Weighed {
    id: i64,
}

#[test]
fn what_stands_outside_the_policies_is_refused() {
    let _alone = alone();
    for engine in engines() {
        let (free, _) = worlds(&engine);
        // Handles made from it require the same, and a transaction of it too.
        let db = free.policies_required::<AgencyId>().carrying(AgencyId(1));
        macro_rules! refused {
            ($($outcome:expr;)*) => {$(
                let about = format!("on {}: {}", engine.name, stringify!($outcome));
                let Err(err) = $outcome.map(|_| ()) else { panic!("{about}") };
                assert_eq!(err.kind(), ErrorKind::PoliciesRequired, "{about}: {err}");
                assert!(err.origin().is_some(), "{about}");
            )*};
        }
        refused! {
            db.read(&Weight::rows());
            db.count(&Weight::rows());
            db.read_one(&Weight::row(1));
            db.transaction(|tx| tx.read(&Weight::rows()));
            db.read(&Specimen::rows().filter(|s| Weight::rows().filter(|w| w.id.eq(s.id)).exists()));
            db.read(&Specimen::rows().filter(|s| s.id.one_of(Weight::rows().select(|w| w.id))));
            db.read(&Specimen::rows().select(|s| (s.id, Weight::rows().filter(|w| w.id.eq(s.id)).count())));
            db.read(&Specimen::rows().join(|s| Weight::rows().filter(|w| w.id.eq(s.id))));
            db.read(&Specimen::rows().left_join(|s| Weight::rows().filter(|w| w.id.eq(s.id))));
            db.read(&Specimen::rows().filter(|s| s.tags().exists()));
            db.read(&Specimen::rows().order_by(|s| s.id.asc()).alongside(|s| s.tags()));
            db.read(&Weight::rows().waive_every_policy());
            db.read(&from(Weight::rows().select(|w| shape!(Weighed { id: w.id }))));
            db.read(&cte(Weight::rows().select(|w| shape!(Weighed { id: w.id }))).rows());
            db.read(&recursive(Weight::rows().select(|w| shape!(Weighed { id: w.id })), 3, |whole| {
                Specimen::rows()
                    .join(|s| whole.filter(|w| s.parent_id.eq(w.id)))
                    .select(|(s, _)| shape!(Weighed { id: s.id }))
            }));
            db.write(&Weight::insert(WeightToInsert { id: 1, parent_id: None, grams: 3 }));
            db.insert_stream([WeightToInsert { id: 1, parent_id: None, grams: 3 }]);
            db.write(&Weight::row(1).update(|w| w.grams.set(3)));
            db.write(&Weight::row(1).delete());
            db.write(&Tagged::insert(TaggedToInsert { specimen_id: 1, tag_id: 1 }));
            db.write(&Specimen::row(1).update(|s| {
                s.grams.set(Weight::rows().select(|_| count()).value().coalesce(0))
            }));
            db.read(&Specimen::rows().filter(|s| verbatim!("{} > 3", s.grams).condition()));
            db.read(&Specimen::rows().select(|_| Verbatim::trusting_text_made_at_run_time("1").typed::<i64>()));
            db.read(&Specimen::rows().filter(|s| s.parts().any(|p| verbatim!("{} > 3", p.grams).condition())));
            db.write(&Specimen::row(1).update(|s| s.grams.set(verbatim!("{} + 1", s.grams).typed::<i64>())));
            db.explain(&Specimen::rows());
        }
        let odd = |s: SpecimenColumns| verbatim!("{} > 3", s.grams).of_arguments_only().condition();
        let tags = db
            .read(&SharedTag::rows().order_by(|t| t.id.asc()))
            .unwrap();
        assert_eq!(tags.len(), 3, "on {}", engine.name);
        db.read(&Specimen::rows().filter(odd)).unwrap();
        db.read(
            &Specimen::rows()
                .filter(|s| s.parts().exists())
                .alongside(|s| s.analyst()),
        )
        .unwrap();
        db.write(&Specimen::rows().filter(odd).update(|s| s.grams.set(1)))
            .unwrap();
        // Policies are waived by name as before.
        db.read(&Specimen::rows().waive_everywhere(own_agency))
            .unwrap();
        db.explain(&Specimen::rows().outside_policies()).unwrap();
        // The handle that it was made from requires nothing.
        free.read(&Weight::rows()).unwrap();
    }
}
