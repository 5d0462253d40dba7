//! SQLite's files: names with odd letters, files that are no database, that are locked, deleted, or replaced.

use std::path::Path;
use std::time::{Duration, Instant};

use nepheline::blocking;
use nepheline::internal::BlockingRunText as _;
use nepheline::prelude::*;
use nepheline::{Database, Options};

#[derive(Debug, Clone, PartialEq, Table)]
struct Tray {
    #[nepheline(key)]
    id: i64,
}

/// A database in a file with so many trays.
fn make(path: &Path, trays: i64) {
    let connection = rusqlite::Connection::open(Path::new(".").join(path)).unwrap();
    connection
        .execute_batch("CREATE TABLE tray (id INTEGER PRIMARY KEY)")
        .unwrap();
    for id in 0..trays {
        connection
            .execute("INSERT INTO tray VALUES (?)", [id])
            .unwrap();
    }
}

fn url(path: &Path) -> String {
    format!("sqlite:{}", path.display())
}

/// `file:x%41` was read as a URI, and `what?` cut short.
#[tokio::test]
async fn a_name_is_taken_letter_by_letter() {
    let folder = tempfile::tempdir().unwrap();
    for name in
        ["what?.db", "100%41.db", "a?b=c?.db", "a#b", "file:x%41", "mode?=ro", "is it?", "ä & b"]
    {
        let path = folder.path().join(name);
        make(&path, 3);
        for url in [url(&path), url(&path) + "?mode=ro", url(&path) + "?mode=rw&lock_timeout=1s"] {
            assert_eq!(
                blocking::Database::open(&url)
                    .unwrap()
                    .count(&Tray::rows())
                    .unwrap(),
                3,
                "{url}"
            );
            let db = Database::open(&url).await.unwrap();
            assert_eq!(
                nepheline::RunsQueries::count(&db, &Tray::rows())
                    .await
                    .unwrap(),
                3,
                "{url}"
            );
        }
    }
    // A relative name that begins like a URI; its folder is the working one.
    let relative = Path::new("file:nepheline%41.db");
    make(relative, 2);
    let counted = blocking::Database::open(&url(relative)).map(|db| db.count(&Tray::rows()));
    std::fs::remove_file(Path::new(".").join(relative)).unwrap();
    assert_eq!(counted.unwrap().unwrap(), 2);

    let odd = folder.path().join("odd?mode=ro");
    make(&odd, 4);
    let db = Options::of_sqlite_file(&odd).open_blocking().unwrap();
    assert_eq!(db.count(&Tray::rows()).unwrap(), 4);
    let err = blocking::Database::open(&(url(&odd) + "?moed=ro")).unwrap_err();
    assert!(err.to_string().contains("unknown parameter `moed`"), "{err}");
    let err = Options::of_sqlite_file("").open_blocking().unwrap_err();
    assert_eq!(err.kind(), ErrorKind::Connection, "{err}");
}

#[tokio::test]
async fn a_file_that_cannot_be_used_is_an_error_at_open() {
    let folder = tempfile::tempdir().unwrap();
    let garbage = folder.path().join("garbage.db");
    std::fs::write(&garbage, "this is no database, whatever its name says".repeat(100)).unwrap();
    let missing = folder.path().join("missing.db");
    for path in [&garbage, &missing, &folder.path().to_owned()] {
        let err = blocking::Database::open(&url(path)).unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Connection, "{err:#}");
        assert!(err.to_string().contains(path.to_str().unwrap()), "{err}");
        let err = Database::open(&url(path)).await.unwrap_err();
        assert_eq!(err.kind(), ErrorKind::Connection, "{err:#}");
    }
    assert!(!missing.exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_locked_is_waited_for_at_open() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("locked.db");
    make(&path, 1);
    let lock = || {
        let holder = rusqlite::Connection::open(&path).unwrap();
        holder.execute_batch("BEGIN EXCLUSIVE").unwrap();
        holder
    };
    let holder = lock();
    for wait in [100, 900] {
        let limited = format!("{}?lock_timeout={wait}ms", url(&path));
        for open in [
            Box::new(|url: &str| blocking::Database::open(url).map(drop))
                as Box<dyn Fn(&str) -> Result<(), Error>>,
            Box::new(|url: &str| {
                let runtime = tokio::runtime::Handle::current();
                tokio::task::block_in_place(|| runtime.block_on(Database::open(url))).map(drop)
            }),
        ] {
            let began = Instant::now();
            let err = open(&limited).unwrap_err();
            let (took, wait) = (began.elapsed(), Duration::from_millis(wait));
            assert_eq!(err.kind(), ErrorKind::Connection, "{err:#}");
            assert!(took >= wait && took < wait * 3, "{took:?} of {wait:?}");
        }
    }
    let limited = format!("{}?lock_timeout=5s", url(&path));
    let opening = tokio::task::spawn_blocking(move || blocking::Database::open(&limited));
    tokio::time::sleep(Duration::from_millis(200)).await;
    drop(holder);
    assert_eq!(
        opening
            .await
            .unwrap()
            .unwrap()
            .count(&Tray::rows())
            .unwrap(),
        1
    );
}

/// Writes went into a file that nobody could find any more.
#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_deleted_or_replaced_is_noticed_within_a_second() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("moved.db");
    make(&path, 1);
    let pooled = Database::open(&(url(&path) + "?pool_size=2"))
        .await
        .unwrap();
    let direct = blocking::Database::open(&url(&path)).unwrap();
    let count = async || nepheline::RunsQueries::count(&pooled, &Tray::rows()).await;
    assert_eq!(count().await.unwrap(), 1);
    assert_eq!(direct.count(&Tray::rows()).unwrap(), 1);

    let other = folder.path().join("other.db");
    make(&other, 5);
    std::fs::rename(&other, &path).unwrap();
    tokio::time::sleep(Duration::from_millis(1_050)).await;
    assert_eq!(count().await.unwrap(), 5, "the pool opens the file that is there now");
    assert_eq!(pooled.pool_metrics().closed.lost, 1);
    let err = direct
        .write(&Tray::insert(TrayToInsert { id: 9 }))
        .unwrap_err();
    assert_eq!(err.kind(), ErrorKind::ConnectionLost, "{err:#}");
    let err = direct.transaction(|_| Ok::<_, Error>(())).unwrap_err();
    assert_eq!(err.kind(), ErrorKind::ConnectionLost, "{err:#}");

    std::fs::remove_file(&path).unwrap();
    tokio::time::sleep(Duration::from_millis(1_050)).await;
    assert_eq!(count().await.unwrap_err().kind(), ErrorKind::Connection);
    make(&path, 2);
    assert_eq!(count().await.unwrap(), 2);
    direct.run_text("SELECT 1", vec![]).unwrap_err();
}
