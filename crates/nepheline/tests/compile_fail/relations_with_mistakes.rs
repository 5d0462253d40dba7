use nepheline::prelude::*;

// Children without a key here, two relations of one name, and names that are taken.
#[derive(Debug, Table)]
#[nepheline(children(cores: Core by site_id))]
struct Site {
    name: String,
}

#[derive(Debug, Table)]
#[nepheline(
    children(twins: Core by site_id, twins: Core by site_id, insert: Core by site_id),
    children(row_by_label: Core by site_id, several: Core by (site_id, id)),
    references(wrong: Slot by (shelf, nothing))
)]
struct Core {
    #[nepheline(key)]
    id: i64,
    #[nepheline(unique)]
    label: String,
    site_id: i64,
    shelf: i64,
    number: i64,
}

#[derive(Debug, Table)]
struct Slot {
    #[nepheline(key)]
    shelf: i64,
    #[nepheline(key)]
    number: i64,
    label: String,
}

// It refers to something that is no table.
#[derive(Debug, Table)]
struct Tray {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Plain)]
    plain_id: i64,
    #[nepheline(references = Slot)]
    slot_id: i64,
}

struct Plain {
    id: i64,
}

// A column that is not there, in each kind of relation.
#[derive(Debug, Table)]
#[nepheline(
    references(slot: Slot by (shelf, number) = (shelf, numbre)),
    children(cores: Core by sight_id),
    optional_child(tray: Tray by plane_id)
)]
struct Corner {
    #[nepheline(key)]
    shelf: i64,
    number: i64,
}

// A bridge table that refers to neither side.
#[derive(Debug, Table)]
#[nepheline(bridged(trays: Tray across Slot))]
struct Rack {
    #[nepheline(key)]
    id: i64,
}

fn main() {}
