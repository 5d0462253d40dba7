//! Relations to at most one row, by whatever is unique there.

use nepheline::prelude::*;

#[derive(Debug, Table)]
#[nepheline(unique(shelf, slot), optional_child(label: SlotLabel by (shelf, slot) = (shelf, slot)))]
struct Slot {
    #[nepheline(key)]
    room: i64,
    #[nepheline(key)]
    number: i64,
    shelf: i64,
    slot: i64,
}

#[derive(Debug, Table)]
#[nepheline(
    unique(shelf, slot),
    references(place: Slot by (shelf, slot) = (shelf, slot)),
    references(by_key: Slot by (room, slot)),
    references(and_more: Slot by (room, shelf, slot) = (room, shelf, slot)),
)]
struct SlotLabel {
    #[nepheline(key)]
    id: i64,
    room: i64,
    shelf: i64,
    slot: i64,
}

#[test]
fn a_set_of_columns_may_be_unique() {
    let query = SlotLabel::rows()
        .filter(|l| l.place().room.eq(1) & l.by_key().room.eq(2) & l.and_more().room.eq(3))
        .filter(|l| l.place().label().is_some())
        .select(|l| l.id);
    insta::assert_snapshot!(query.sql(Dialect::Sqlite).unwrap());
}
