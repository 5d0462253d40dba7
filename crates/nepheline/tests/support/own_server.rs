//! Servers of a test's own, on free ports, for what nobody else should have to live through: restarts, limits, and
//! settings of the whole server. Dropped, they are stopped.

use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use nepheline::Database;

/// The way in which a server is ended before it is started again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ended {
    /// It undoes what is open and writes what it has.
    Orderly,
    /// It ends its sessions at once. MariaDB has no such way, and ends in order.
    AtOnce,
    Killed,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Postgres,
    MariaDb,
}

pub(crate) struct OwnServer {
    kind: Kind,
    child: Child,
    folder: tempfile::TempDir,
    pub(crate) port: u16,
    settings: Vec<String>,
}

impl Drop for OwnServer {
    fn drop(&mut self) {
        signal(&self.child, "-QUIT");
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Returns a port that nobody listens at. It is not among those that the system gives to outgoing connections, one of
/// which could take it while a server restarts.
pub(crate) fn free_port() -> u16 {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let begin = std::process::id().wrapping_mul(97);
    loop {
        let number = begin.wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed)) % 12_000;
        let port = 20_000 + u16::try_from(number).unwrap();
        if std::net::TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// Sends a signal by the command for it, since the standard library has only one.
fn signal(child: &Child, signal: &str) {
    let sent = Command::new("kill")
        .args([signal, &child.id().to_string()])
        .status();
    assert!(sent.is_ok(), "no `kill` command");
}

/// The user and the group that servers run as which refuse to run as root, if this is root.
fn unprivileged(user: &str) -> Option<(u32, u32)> {
    let id = |flag: &str| {
        let output = Command::new("id").args([flag, user]).output().ok()?;
        String::from_utf8(output.stdout)
            .ok()?
            .trim()
            .parse::<u32>()
            .ok()
    };
    let own = Command::new("id").arg("-u").output().unwrap();
    match own.stdout.as_slice() {
        b"0\n" => Some((id("-u")?, id("-g")?)),
        _ => None,
    }
}

/// A command that runs as another user where this is root, in a folder that is that user's.
pub(crate) fn as_user(program: impl AsRef<std::ffi::OsStr>, user: &str, folder: &Path) -> Command {
    let mut command = Command::new(program);
    if let Some((uid, gid)) = unprivileged(user) {
        std::os::unix::fs::chown(folder, Some(uid), Some(gid)).unwrap();
        command.uid(uid).gid(gid);
    }
    command
        .current_dir(folder)
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    command
}

fn postgres_programs() -> PathBuf {
    let versions = std::fs::read_dir("/usr/lib/postgresql").unwrap();
    let newest = versions.map(|entry| entry.unwrap().path()).max().unwrap();
    newest.join("bin")
}

impl OwnServer {
    pub(crate) async fn postgres(settings: &[&str]) -> OwnServer {
        OwnServer::begin(Kind::Postgres, settings).await
    }

    pub(crate) async fn mariadb(settings: &[&str]) -> OwnServer {
        OwnServer::begin(Kind::MariaDb, settings).await
    }

    /// A server of each kind.
    pub(crate) async fn each() -> [OwnServer; 2] {
        let (postgres, mariadb) = tokio::join!(OwnServer::postgres(&[]), OwnServer::mariadb(&[]));
        [postgres, mariadb]
    }

    async fn begin(kind: Kind, settings: &[&str]) -> OwnServer {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("data");
        let mut install = match kind {
            Kind::Postgres => {
                let program = postgres_programs().join("initdb");
                let mut install = as_user(program, "postgres", folder.path());
                install.args([
                    "--auth=trust",
                    "--username=shed",
                    "--no-sync",
                    "--no-locale",
                    "-EUTF8",
                    "-D",
                ]);
                install.arg(&data);
                install
            }
            Kind::MariaDb => {
                let mut install = Command::new("mariadb-install-db");
                // A server that starts removes what other servers have in a folder that they share.
                install.env("TMPDIR", folder.path());
                install.args(["--no-defaults", "--auth-root-authentication-method=normal"]);
                install.args(["--skip-test-db", "--user=root"]);
                install.arg(format!("--datadir={}", data.display()));
                install
            }
        };
        let installed = install
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .output()
            .unwrap();
        let told = || {
            let Output { stdout, stderr, .. } = &installed;
            [stdout, stderr]
                .map(|bytes| String::from_utf8_lossy(bytes).into_owned())
                .concat()
        };
        assert!(installed.status.success(), "{kind:?} makes no folder of its own: {}", told());
        let port = free_port();
        let settings: Vec<String> = settings
            .iter()
            .map(|setting| (*setting).to_owned())
            .collect();
        let child = start(kind, folder.path(), port, &settings);
        let mut server = OwnServer { kind, child, folder, port, settings };
        server.wait_until_up().await;
        server
    }

    /// The URL of its database, at its own port or that of something in between.
    pub(crate) fn url_at(&self, port: u16) -> String {
        match self.kind {
            Kind::Postgres => format!("postgres://shed@127.0.0.1:{port}/postgres"),
            Kind::MariaDb => format!("mysql://shed@127.0.0.1:{port}/core"),
        }
    }

    pub(crate) fn url(&self) -> String {
        self.url_at(self.port)
    }

    pub(crate) fn name(&self) -> &'static str {
        match self.kind {
            Kind::Postgres => "PostgreSQL",
            Kind::MariaDb => "MariaDB",
        }
    }

    /// Returns whether its process runs.
    pub(crate) fn is_up(&mut self) -> bool {
        self.child.try_wait().unwrap().is_none()
    }

    async fn wait_until_up(&mut self) {
        let until = Instant::now() + Duration::from_secs(60);
        while Database::open(&self.url()).await.is_err() {
            assert!(Instant::now() < until, "the server does not start");
            // A killed PostgreSQL refuses to start until the last of its old sessions is gone.
            if self.child.try_wait().unwrap().is_some() {
                self.child = start(self.kind, self.folder.path(), self.port, &self.settings);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Ends the server and starts it again, and waits until it is up.
    pub(crate) async fn restart(&mut self, ended: Ended) {
        match (ended, self.kind) {
            (Ended::Killed, _) => self.child.kill().unwrap(),
            (Ended::Orderly, Kind::Postgres) => signal(&self.child, "-INT"),
            (Ended::AtOnce, Kind::Postgres) => signal(&self.child, "-QUIT"),
            (_, Kind::MariaDb) => signal(&self.child, "-TERM"),
        }
        while self.child.try_wait().unwrap().is_none() {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        self.child = start(self.kind, self.folder.path(), self.port, &self.settings);
        self.wait_until_up().await;
    }
}

fn start(kind: Kind, folder: &Path, port: u16, settings: &[String]) -> Child {
    let data = folder.join("data");
    let in_folder = |name: &str| folder.join(name).display().to_string();
    match kind {
        Kind::Postgres => as_user(postgres_programs().join("postgres"), "postgres", folder)
            .arg("-D")
            .arg(&data)
            .args(["-c", &format!("port={port}"), "-c", "listen_addresses=127.0.0.1"])
            .args(["-c", "unix_socket_directories=", "-c", "fsync=off"])
            .args(["-c", "shared_buffers=32MB"])
            .args(settings.iter().flat_map(|setting| ["-c", setting.as_str()]))
            .spawn()
            .unwrap(),
        Kind::MariaDb => {
            let init = folder.join("init.sql");
            let statements = "CREATE USER IF NOT EXISTS shed@'%';\nGRANT ALL ON *.* TO shed@'%' WITH GRANT OPTION;\n\
                 CREATE DATABASE IF NOT EXISTS core CHARACTER SET utf8mb4;\n";
            std::fs::write(&init, statements).unwrap();
            Command::new("/usr/sbin/mariadbd")
                .env("TMPDIR", folder)
                .args(["--no-defaults", "--user=root", "--skip-name-resolve"])
                .args(["--bind-address=127.0.0.1", "--innodb-buffer-pool-size=32M"])
                // Connections that break off while they are made would have the server refuse all of them.
                .arg("--max-connect-errors=4294967295")
                .args([format!("--port={port}"), format!("--datadir={}", data.display())])
                .args([format!("--socket={}", in_folder("socket"))])
                .args([format!("--pid-file={}", in_folder("pid"))])
                .arg(format!("--init-file={}", init.display()))
                .args(settings)
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn()
                .unwrap()
        }
    }
}
