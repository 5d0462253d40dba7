use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Slot {
    #[nepheline(key)]
    shelf: i64,
    #[nepheline(key)]
    number: i64,
    label: String,
}

// A part of the key, a column that is not unique, and two that are not unique together.
#[derive(Debug, Table)]
#[nepheline(references(twice: Slot by (shelf, label) = (shelf, label)))]
struct Tray {
    #[nepheline(key, references = Slot by shelf, called = on_shelf)]
    shelf: i64,
    #[nepheline(references = Slot by label, called = labelled)]
    label: String,
}

// A row may have several children.
#[derive(Debug, Table)]
#[nepheline(optional_child(collar: Collar by borehole_id))]
struct Borehole {
    #[nepheline(key)]
    id: i64,
}

#[derive(Debug, Table)]
struct Collar {
    #[nepheline(key)]
    id: i64,
    borehole_id: i64,
}

fn main() {}
