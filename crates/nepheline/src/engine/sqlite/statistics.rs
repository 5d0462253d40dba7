//! Variance, standard deviation and median, which SQLite lacks.

use rusqlite::functions::{Aggregate, Context, FunctionFlags, WindowAggregate};
use rusqlite::{Connection, Result};

use super::functions::number;

/// Registers the functions on a connection.
pub(super) fn register(connection: &Connection, flags: FunctionFlags) -> Result<()> {
    let spread = |name, measure| connection.create_window_function(name, 1, flags, Spread(measure));
    spread("nepheline_var_pop", |spread| spread.mean_square(0))?;
    spread("nepheline_var_samp", |spread| spread.mean_square(1))?;
    spread("nepheline_stddev_pop", |spread| spread.mean_square(0).map(f64::sqrt))?;
    spread("nepheline_stddev_samp", |spread| spread.mean_square(1).map(f64::sqrt))?;
    connection.create_window_function("nepheline_median", 1, flags, Median)
}

/// A measure of how far values lie apart.
struct Spread(fn(&Moments) -> Option<f64>);

/// The number of values, their mean, and the sum of the squares of their distances from it. It is brought up to date with each
/// value, because the difference of a sum of squares and a squared sum loses its digits.
#[derive(Debug, Default)]
struct Moments {
    values: u64,
    mean: f64,
    squares: f64,
}

impl Moments {
    fn add(&mut self, value: f64) {
        self.values += 1;
        let distance = value - self.mean;
        self.mean += distance / self.values as f64;
        self.squares += distance * (value - self.mean);
    }

    fn remove(&mut self, value: f64) {
        self.values -= 1;
        if self.values == 0 {
            *self = Moments::default();
            return;
        }
        let distance = value - self.mean;
        self.mean -= distance / self.values as f64;
        // Rounding may bring it below zero.
        self.squares = (self.squares - distance * (value - self.mean)).max(0.0);
    }

    /// Returns the mean of the squares over the number of values, less `fewer`; `None` if none are left.
    fn mean_square(&self, fewer: u64) -> Option<f64> {
        let over = self.values.checked_sub(fewer).filter(|over| *over > 0)?;
        Some(self.squares / over as f64)
    }
}

impl Aggregate<Moments, Option<f64>> for Spread {
    fn init(&self, _: &mut Context<'_>) -> Result<Moments> {
        Ok(Moments::default())
    }

    fn step(&self, call: &mut Context<'_>, moments: &mut Moments) -> Result<()> {
        if let Some(value) = number(call, 0)? {
            moments.add(value);
        }
        Ok(())
    }

    fn finalize(&self, _: &mut Context<'_>, moments: Option<Moments>) -> Result<Option<f64>> {
        Ok(moments.and_then(|moments| (self.0)(&moments)))
    }
}

impl WindowAggregate<Moments, Option<f64>> for Spread {
    fn value(&self, moments: Option<&mut Moments>) -> Result<Option<f64>> {
        Ok(moments.and_then(|moments| (self.0)(moments)))
    }

    fn inverse(&self, call: &mut Context<'_>, moments: &mut Moments) -> Result<()> {
        if let Some(value) = number(call, 0)? {
            moments.remove(value);
        }
        Ok(())
    }
}

/// The value in the middle, or the mean of the two in the middle.
struct Median;

/// The values of a group.
#[derive(Debug, Default)]
struct Values(Vec<f64>);

impl Values {
    fn middle(&mut self) -> Option<f64> {
        let half = self.0.len() / 2;
        let is_even = self.0.len().is_multiple_of(2);
        if self.0.is_empty() {
            return None;
        }
        let (below, upper, _) = self.0.select_nth_unstable_by(half, f64::total_cmp);
        let upper = *upper;
        let lower = below.iter().copied().max_by(f64::total_cmp).filter(|_| is_even);
        Some(lower.map_or(upper, |lower| lower + (upper - lower) / 2.0))
    }
}

impl Aggregate<Values, Option<f64>> for Median {
    fn init(&self, _: &mut Context<'_>) -> Result<Values> {
        Ok(Values::default())
    }

    fn step(&self, call: &mut Context<'_>, values: &mut Values) -> Result<()> {
        values.0.extend(number(call, 0)?);
        Ok(())
    }

    fn finalize(&self, _: &mut Context<'_>, values: Option<Values>) -> Result<Option<f64>> {
        Ok(values.and_then(|mut values| values.middle()))
    }
}

impl WindowAggregate<Values, Option<f64>> for Median {
    fn value(&self, values: Option<&mut Values>) -> Result<Option<f64>> {
        Ok(values.and_then(Values::middle))
    }

    fn inverse(&self, call: &mut Context<'_>, values: &mut Values) -> Result<()> {
        if let Some(value) = number(call, 0)?
            && let Some(place) = values.0.iter().position(|own| *own == value)
        {
            values.0.swap_remove(place);
        }
        Ok(())
    }
}
