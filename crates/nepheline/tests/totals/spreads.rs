//! Variance, standard deviation and median, over groups and windows.

use nepheline::blocking::RunsQueries;
use nepheline::prelude::*;
use nepheline::{median, stddev_pop, stddev_samp, var_pop, var_samp};
use proptest::prelude::*;
use proptest::test_runner::TestCaseError;

use crate::{Answers, Asked, Piece, grouped};

/// Returns the measures of how far values lie apart, computed by their definitions.
fn spread_of(values: &[f64]) -> [Option<f64>; 4] {
    let count = values.len() as f64;
    let mean = values.iter().sum::<f64>() / count;
    let squares: f64 = values.iter().map(|value| (value - mean).powi(2)).sum();
    let of_all = (count > 0.0).then(|| squares / count);
    let of_sample = (count > 1.0).then(|| squares / (count - 1.0));
    [of_all, of_sample, of_all.map(f64::sqrt), of_sample.map(f64::sqrt)]
}

fn median_of(values: &mut [f64]) -> Option<f64> {
    values.sort_by(f64::total_cmp);
    let half = values.len() / 2;
    match values {
        [] => None,
        _ if values.len() % 2 == 1 => Some(values[half]),
        _ => Some((values[half - 1] + values[half]) / 2.0),
    }
}

fn check_close(found: Option<f64>, expected: Option<f64>, what: &str) -> Result<(), TestCaseError> {
    let close = match (found, expected) {
        (Some(found), Some(expected)) => (found - expected).abs() <= 1e-9 * expected.abs().max(1.0),
        (found, expected) => found == expected,
    };
    prop_assert!(close, "{what}: {found:?}, expected {expected:?}");
    Ok(())
}

pub(crate) fn check(
    answers: &Answers<'_>,
    pieces: &[Piece],
    asked: &Asked,
) -> Result<(), TestCaseError> {
    let (db, name) = (answers.db, answers.engine.name);
    let read = |err: Error| TestCaseError::fail(format!("{err:#} on {name}"));
    let per_kind = Piece::rows()
        .select(|p| {
            let heavy = p.grams.ge(asked.at_least);
            (
                (per(p.kind), var_pop(p.metres), var_samp(p.metres)),
                (stddev_pop(p.grams), stddev_samp(p.grams).filter(heavy)),
            )
        })
        .order_by(|p| per(p.kind).asc());
    let found = db.read(&per_kind).map_err(read)?;
    for ((kind, group), found) in grouped(pieces, |p| p.kind.clone()).into_iter().zip(found) {
        let ((of, var_pop, var_samp), (stddev_pop, stddev_samp)) = found;
        prop_assert_eq!(of, kind);
        let metres: Vec<f64> = group.iter().filter_map(|p| p.metres).collect();
        let grams: Vec<f64> = group.iter().map(|p| p.grams as f64).collect();
        let heavy: Vec<f64> = grams
            .iter()
            .copied()
            .filter(|g| *g >= asked.at_least as f64)
            .collect();
        check_close(var_pop, spread_of(&metres)[0], name)?;
        check_close(var_samp, spread_of(&metres)[1], name)?;
        check_close(stddev_pop, spread_of(&grams)[2], name)?;
        check_close(stddev_samp, spread_of(&heavy)[3], name)?;
    }
    // Over the rows around each row, which takes values out again.
    let around = Piece::rows()
        .select(|p| var_samp(p.metres).over(|w| w.order_by(p.id.asc()).rows(-1..=1)))
        .order_by(|p| p.id.asc());
    let found = db.read(&around).map_err(read)?;
    for (number, found) in found.into_iter().enumerate() {
        let rows = &pieces[number.saturating_sub(1)..(number + 2).min(pieces.len())];
        let metres: Vec<f64> = rows.iter().filter_map(|p| p.metres).collect();
        check_close(found, spread_of(&metres)[1], name)?;
    }
    let medians = Piece::rows()
        .select(|p| (per(p.kind), median(p.metres), median(p.grams).filter(p.tray.is_not_null())))
        .order_by(|p| per(p.kind).asc());
    let found = match db.read(&medians) {
        Err(err) if name == "MariaDB" => {
            prop_assert_eq!(err.kind(), ErrorKind::Unsupported);
            return Ok(());
        }
        found => found.map_err(read)?,
    };
    for ((_, group), (_, metres, grams)) in
        grouped(pieces, |p| p.kind.clone()).into_iter().zip(found)
    {
        let mut own: Vec<f64> = group.iter().filter_map(|p| p.metres).collect();
        check_close(metres, median_of(&mut own), name)?;
        let in_trays = group.iter().filter(|p| p.tray.is_some());
        let mut own: Vec<f64> = in_trays.map(|p| p.grams as f64).collect();
        check_close(grams, median_of(&mut own), name)?;
    }
    Ok(())
}
