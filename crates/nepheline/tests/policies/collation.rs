//! Text under a collation that treats different texts as equal: policies and keys compare by code point all the same.

use nepheline::blocking::RunsQueries;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;

use crate::support::engines;

/// A tenant that is known by its code.
#[derive(Debug, Clone, PartialEq)]
struct Tenant(String);

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "loose_office", children(desks: Desk by office_code), policies(own_office))]
struct Office {
    #[nepheline(key)]
    code: String,
    tenant: String,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "loose_desk")]
struct Desk {
    #[nepheline(key)]
    id: i64,
    #[nepheline(references = Office, called = office)]
    office_code: String,
    #[nepheline(nondeterministic)]
    owner: String,
    /// The column has another collation.
    #[nepheline(nondeterministic)]
    label: String,
}

fn own_office(o: OfficeColumns, tenant: &Tenant) -> Condition {
    o.tenant.eq(tenant.0.as_str())
}

#[test]
fn text_is_the_same_only_if_every_letter_is() {
    for engine in engines() {
        let free = engine.open();
        let loose = engine.pick(
            "TEXT COLLATE NOCASE",
            "text COLLATE loose",
            "VARCHAR(40) COLLATE utf8mb4_general_ci",
        );
        let other = engine.pick(loose, "text COLLATE looser", loose);
        let text = |text: &str| {
            free.run_text(text, vec![])
                .unwrap_or_else(|err| panic!("{text}: {err:#}"));
        };
        for table in ["loose_desk", "loose_office"] {
            text(&format!("DROP TABLE IF EXISTS {table}"));
        }
        if engine.dialect() == Dialect::Postgres {
            for (name, level) in [("loose", 2), ("looser", 1)] {
                text(&format!("DROP COLLATION IF EXISTS {name}"));
                text(&format!(
                    "CREATE COLLATION {name} (provider = icu, locale = 'und-u-ks-level{level}', deterministic = false)"
                ));
            }
        }
        text(&format!("CREATE TABLE loose_office (code {loose}, tenant {loose})"));
        text(&format!(
            "CREATE TABLE loose_desk (id BIGINT, office_code {loose}, owner {loose}, label {other})"
        ));
        text("INSERT INTO loose_office VALUES ('kp', 'acme'), ('KP', 'ACME'), ('lm', 'acme')");
        text(
            "INSERT INTO loose_desk VALUES (1, 'kp', 'Ada', 'ada'), (2, 'KP', 'ada', 'ada'), (3, 'lm', 'ADA', 'Bo'), \
             (4, 'kp', 'Bo', 'bo')",
        );
        let db = free.carrying(Tenant("acme".to_owned()));
        let name = engine.name;
        macro_rules! ids {
            ($query:expr) => {{
                let rows = db.read(&$query.order_by(|d| d.id.asc()).select(|d| d.id));
                rows.unwrap_or_else(|err| panic!("on {name}: {}: {err:#}", stringify!($query)))
            }};
        }
        // Another tenant's rows, whose code differs in case only, stay hidden.
        let codes = db
            .read(&Office::rows().order_by(|o| o.code.asc()).select(|o| o.code))
            .unwrap();
        assert_eq!(codes, ["kp", "lm"], "on {name}");
        assert_eq!(db.count(&Office::rows().waive_every_policy()).unwrap(), 3, "on {name}");
        let none = db.read_first(&Office::row("Kp".to_owned())).unwrap();
        assert_eq!(none, None, "on {name}");
        let free_of_policies = Office::row("KP".to_owned()).waive_every_policy();
        assert_eq!(db.read_one(&free_of_policies).unwrap().tenant, "ACME", "on {name}");
        // References lead to one row.
        let both = Desk::rows().filter(|d| d.office().tenant.eq("acme"));
        assert_eq!(ids!(both), [1, 3, 4], "on {name}");
        let pairs = db.read(
            &Desk::rows()
                .waive_every_policy()
                .order_by(|d| d.id.asc())
                .alongside(|d| d.office()),
        );
        let pairs = pairs
            .unwrap()
            .into_iter()
            .map(|(desk, office)| desk.office_code == office.code);
        assert_eq!(pairs.collect::<Vec<_>>(), [true; 4], "on {name}");
        let desks = db.read(
            &Office::rows()
                .order_by(|o| o.code.asc())
                .select(|o| (o.code, o.desks().count())),
        );
        let desks = desks.unwrap();
        assert_eq!(desks, [("kp".to_owned(), 2), ("lm".to_owned(), 1)], "on {name}");
        // Columns that are declared so compare by code point in every form.
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.eq("ada"))), [2], "on {name}");
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.ne("ada"))), [1, 3, 4], "on {name}");
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.eq(d.label))), [2], "on {name}");
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.one_of(["ada", "bo"]))), [2], "on {name}");
        let long = (0..200).map(|number| format!("owner {number}"));
        let long: Vec<String> = long.chain(["ada", "bo"].map(str::to_owned)).collect();
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.one_of(long.clone()))), [2], "on {name}");
        assert_eq!(
            ids!(Desk::rows().filter(|d| !d.owner.one_of(long.clone()))),
            [1, 3, 4],
            "on {name}"
        );
        assert_eq!(
            ids!(Desk::rows().filter(|d| d.owner.none_of(["ada", "bo"]))),
            [1, 3, 4],
            "on {name}"
        );
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.like("a%"))), [2], "on {name}");
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.contains("d"))), [1, 2], "on {name}");
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.starts_with("A"))), [1, 3], "on {name}");
        let labels = || Desk::rows().select(|d| d.label).distinct();
        assert_eq!(db.count(&labels()).unwrap(), 3, "on {name}");
        assert_eq!(ids!(Desk::rows().filter(|d| d.owner.one_of(labels()))), [2, 4], "on {name}");
        let groups = Desk::rows()
            .select(|d| (per(d.owner), count()))
            .order_by(|d| per(d.owner).asc());
        assert_eq!(db.read(&groups).unwrap().len(), 4, "on {name}");
    }
}

/// The first comparison keeps the column's index in use.
#[test]
fn both_comparisons_are_shown() {
    let carried = Carried::new().with(Tenant("acme".to_owned()));
    let shown = Dialect::ALL.map(|dialect| {
        let by_key = Office::row("kp".to_owned());
        let desks = Desk::rows().filter(|d| d.owner.one_of(["Ada"]) & d.owner.eq(d.label));
        let desks = desks.select(|d| (d.id, d.office().tenant));
        let sql = [by_key.sql_carrying(dialect, &carried), desks.sql_carrying(dialect, &carried)];
        format!("{dialect}\n{}", sql.map(|sql| sql.unwrap().text().to_owned()).join("\n"))
    });
    insta::assert_snapshot!(shown.join("\n\n"));
}
