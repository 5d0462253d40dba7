//! Whole statements that cannot be.

use nepheline::prelude::*;
use nepheline::{script, statement};

#[derive(RowShape)]
struct Depth {
    metres: f64,
}

struct NoShape;

fn main() {
    let label = "KP-1";
    let text = String::from("SELECT 1");
    let _ = statement!("COMMIT");
    let _ = statement!("DELETE FROM lab; DELETE FROM site");
    let _ = statement!("SELECT metres FROM depth WHERE label = '{label}'");
    let _ = statement!("SELECT metres FROM depth -- all of them");
    let _ = statement!("SELECT metres FROM depth WHERE label = ?");
    let _ = statement!(text);
    let _ = statement!("SELECT {1}", 7);
    let _ = statement!("SELECT 1").rows_as::<NoShape>();
    let _ = statement!("SELECT metres FROM depth").rows_as::<Depth>().filter(|d| d.metres.gt(3));
    let _ = script!(text);
}
