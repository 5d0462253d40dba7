//! A server of the test's own, with settings that nobody else wants.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use nepheline::Database;
use nepheline::internal::RunText as _;
use nepheline::prelude::*;

use crate::support::server;

#[derive(Debug, Clone, PartialEq, Table)]
#[nepheline(table = "timed_out")]
struct Held {
    #[nepheline(key)]
    id: i64,
    metres: i64,
}

/// MariaDB on a socket in a folder. Dropped, it is stopped.
struct Server {
    child: Child,
    folder: tempfile::TempDir,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Server {
    async fn start(settings: &[&str]) -> Server {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("data");
        let in_folder = |name: &str, path: &Path| format!("--{name}={}", path.display());
        let user =
            format!("--user={}", std::env::var("USER").unwrap_or_else(|_| "root".to_owned()));
        let installed = Command::new("mariadb-install-db")
            .args([
                "--no-defaults",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
                &user,
            ])
            .arg(in_folder("datadir", &data))
            .output()
            .unwrap();
        assert!(installed.status.success(), "{}", String::from_utf8_lossy(&installed.stderr));
        let socket = folder.path().join("socket");
        let child = Command::new("/usr/sbin/mariadbd")
            .args(["--no-defaults", "--skip-networking", "--innodb-buffer-pool-size=16M", &user])
            .args([in_folder("datadir", &data), in_folder("socket", &socket)])
            .args([in_folder("pid-file", &folder.path().join("pid"))])
            .args(settings)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let server = Server { child, folder };
        let until = Instant::now() + Duration::from_secs(30);
        while Database::open(&server.url()).await.is_err() {
            assert!(Instant::now() < until, "the server does not start");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        server
    }

    fn url(&self) -> String {
        let socket = self.folder.path().join("socket");
        format!("mysql://root@localhost/mysql?socket={}&lock_timeout=1s", socket.display())
    }
}

/// The server undid the whole transaction, the work went on, and the first write was lost with `Ok`.
#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_undoes_all_at_a_lock_timeout_loses_no_write_unnoticed() {
    if server("MariaDB").is_none() {
        return;
    }
    let own = Server::start(&["--innodb-rollback-on-timeout=ON"]).await;
    let db = Database::open(&own.url()).await.unwrap();
    let create = "CREATE TABLE timed_out (id BIGINT PRIMARY KEY, metres BIGINT NOT NULL)";
    db.run_text(create, vec![]).await.unwrap();
    let rows = (1..=3).map(|id| UnsavedHeld { id, metres: 0 });
    db.write(&Held::insert_all(rows)).await.unwrap();
    let set = |id: i64| Held::row(id).update(|r| r.metres.set(1));
    let holder = Database::open(&own.url()).await.unwrap();
    let outcome: Result<(), Error> = holder
        .transaction(async |holding| {
            holding.write(&set(1)).await?;
            let (victim, lock, first, last) = (db.clone(), set(1), set(2), set(3));
            let outer: Result<(), Error> = tokio::spawn(async move {
                victim
                    .transaction(async |tx| {
                        tx.write(&first).await?;
                        let err = tx
                            .transaction(async |inner| inner.write(&lock).await)
                            .await
                            .unwrap_err();
                        assert_eq!(err.kind(), ErrorKind::Locked);
                        // The savepoint is gone with all the rest, so that nothing can go on.
                        let err = tx.write(&last).await.unwrap_err();
                        assert_eq!(err.kind(), ErrorKind::TransactionOver, "{err}");
                        Ok(())
                    })
                    .await
            })
            .await
            .unwrap();
            assert_eq!(outer.unwrap_err().kind(), ErrorKind::TransactionOver);
            Ok(())
        })
        .await;
    outcome.unwrap();
    let metres = db
        .read(&Held::rows().select(|r| r.metres).order_by(|r| r.id.asc()))
        .await
        .unwrap();
    assert_eq!(metres, [1, 0, 0]);
}
