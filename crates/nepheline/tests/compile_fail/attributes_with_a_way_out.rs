use nepheline::prelude::*;

#[derive(Debug, Table)]
#[nepheline(children(Core by site_id), unknown(a, b), frozen = true, retire(closed))]
#[nepheline(references(pair: Site by (a, b)))]
struct Site {
    #[nepheline(key = true)]
    id: i64,
    #[nepheline(references = "Site")]
    parent_id: i64,
    #[nepheline(references(Site))]
    other_id: i64,
    #[nepheline(references = Site by (id, parent_id))]
    third_id: i64,
    #[nepheline(generated(always), unique)]
    number: i64,
}

#[derive(Debug, Table)]
#[nepheline(table = "a name that is longer than all the names that PostgreSQL keeps as they are", schema = " s")]
struct Core {
    #[nepheline(key)]
    id: Option<i64>,
    #[nepheline(column = "")]
    site_id: i64,
    #[nepheline(whole_row)]
    site: i64,
}

#[derive(Debug, Storable)]
struct Id<T>(i64, std::marker::PhantomData<T>);

fn main() {}
