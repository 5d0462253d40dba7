use nepheline::prelude::*;

#[derive(Debug, Table)]
struct Rig {
    #[nepheline(key)]
    id: i64,
}

type MaybeId = Option<i64>;

// The rows without a rig would be lost.
#[derive(Debug, Table)]
struct Borehole {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Rig)]
    rig_id: MaybeId,
}

mod own {
    #[derive(Debug, nepheline::Storable)]
    pub(crate) struct Option(i64);
}

// This `Option` is not the one of Rust, and never NULL.
#[derive(Debug, Table)]
struct Stand {
    #[nepheline(unique)]
    name: own::Option,
    #[nepheline(references = Stand by name, called = next)]
    next_name: own::Option,
}

// A key is never NULL.
#[derive(Debug, Table)]
struct Core {
    #[nepheline(key)]
    id: MaybeId,
}

fn main() {}
