//! A thread for work that destructors leave behind: cancelling statements and rolling back transactions needs
//! a runtime, and a destructor may run where there is none.

use std::sync::OnceLock;
use std::thread;

use futures_util::future::BoxFuture;
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

type Job = BoxFuture<'static, ()>;

/// Runs a job without waiting for it. The first job starts the thread.
pub(crate) fn take_over(job: impl Future<Output = ()> + Send + 'static) {
    static JOBS: OnceLock<Option<UnboundedSender<Job>>> = OnceLock::new();
    // Without a thread the job is dropped here, which closes the connection that it owns.
    if let Some(jobs) = JOBS.get_or_init(start) {
        let _ = jobs.send(Box::pin(job));
    }
}

fn start() -> Option<UnboundedSender<Job>> {
    let (send, receive) = unbounded_channel();
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build();
    let runtime = runtime.ok()?;
    let thread = thread::Builder::new().name("nepheline-caretaker".to_owned());
    let started = thread.spawn(move || runtime.block_on(work(receive)));
    started.ok().map(|_| send)
}

async fn work(mut jobs: UnboundedReceiver<Job>) {
    while let Some(job) = jobs.recv().await {
        // Each job is a task of its own, so that a server that does not answer delays no other.
        tokio::spawn(job);
    }
}
