//! Rows of the core shed as text.

use nepheline_coreshed::Specimen;

use crate::screen::{NULL, Tabular};

impl Tabular for Specimen {
    const HEADINGS: &'static [&'static str] = &[
        "id",
        "borehole_id",
        "label",
        "rock",
        "top_m",
        "base_m",
        "taken_on",
        "analyst_id",
        "parent_id",
        "withdrawn_at",
    ];

    fn fields(&self) -> Vec<String> {
        vec![
            self.id.to_string(),
            self.borehole_id.to_string(),
            self.label.clone(),
            format!("{:?}", self.rock),
            self.top_m.to_string(),
            self.base_m.to_string(),
            self.taken_on.to_string(),
            or_null(self.analyst_id),
            or_null(self.parent_id),
            or_null(self.withdrawn_at),
        ]
    }
}

pub(super) fn or_null(value: Option<impl ToString>) -> String {
    value.map_or_else(|| NULL.to_owned(), |value| value.to_string())
}
