use nepheline::prelude::*;

#[derive(Debug, Storable)]
struct AgencyId(i64);

#[derive(Debug, Table)]
#[nepheline(table = "a", table = "b", retire(end), carried(agency = AgencyId, agency = AgencyId))]
#[nepheline(policies(open, open))]
struct Twice {
    #[nepheline(key, key)]
    id: i64,
    #[nepheline(column = "x", column = "y")]
    agency: AgencyId,
    #[nepheline(stamp = insert, stamp = write)]
    made_at: Timestamp,
    #[nepheline(version)]
    version: i64,
    #[nepheline(version)]
    revision: i64,
    #[nepheline(generated)]
    number: i64,
    #[nepheline(generated)]
    serial: i64,
    end: Option<Timestamp>,
}

#[derive(Debug, Table)]
#[nepheline(retire(end))]
struct Contrary {
    #[nepheline(key, stamp = write)]
    id: Timestamp,
    #[nepheline(generated, stamp = insert)]
    made_at: Timestamp,
    #[nepheline(version, stamp = write)]
    version: i64,
    #[nepheline(stamp = write)]
    end: Option<Timestamp>,
}

#[derive(Debug, Table)]
#[nepheline(carried(agency = AgencyId))]
struct CarriedToo {
    #[nepheline(key, generated)]
    agency: AgencyId,
}

// The handle carries another type than the column has.
#[derive(Debug, Table)]
#[nepheline(carried(agency = AgencyId))]
struct Carried {
    #[nepheline(key)]
    id: i64,
    agency: String,
}

// A row shape is no table.
#[derive(Debug, RowShape)]
#[nepheline(table = "totals")]
struct Totals {
    #[nepheline(key)]
    id: i64,
    #[nepheline(version)]
    version: i64,
    #[nepheline(stamp = insert)]
    made_at: Timestamp,
    #[nepheline(references = Twice)]
    twice_id: i64,
    #[nepheline(whole_row, column = "all")]
    twice: Twice,
}

fn open(t: TwiceColumns) -> Condition {
    t.end.is_null()
}

fn main() {}
