//! SQLite called on the caller's thread, for the blocking handles.

use std::pin::pin;
use std::task::{Context, Poll, Waker};

#[cfg(feature = "sqlite")]
use nepheline_core::Error;

/// Completes a future that never waits.
// Inlined, so that the future is not moved, which costs more than running it.
#[inline(always)]
pub(crate) fn now<F: Future>(future: F) -> F::Output {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(output) => output,
        Poll::Pending => unreachable!("a blocking handle waits within its calls, never between them"),
    }
}

#[cfg(feature = "sqlite")]
mod sqlite {
    use std::time::Duration;


    use nepheline_core::internal::{CompileContext, PolicySlot, Statement};
    use parking_lot::ReentrantMutexGuard;
    use rusqlite::Connection;

    use super::{Error, now};
    use crate::access::setting::Setting;
    use crate::engine::sqlite::direct::{self, DirectWire, OpenRows, Opened};
    use crate::exec::answer::Answer;
    use crate::exec::ask::Ask;
    use crate::exec::levels::{AfterCommit, Owner};
    use crate::exec::limit::CallLimit;
    use crate::exec::line::Line;
    use crate::exec::run;
    use crate::exec::sink::Sink;
    use crate::exec::transaction::{Hold, Root, TransactionOptions, Work};
    use crate::observe::interceptor::Running;

    /// A SQLite connection in use.
    #[derive(Clone, Copy)]
    pub(crate) struct DirectConnection<'c> {
        pub(crate) connection: &'c Connection,
        /// `None` where the connection is lent: its handlers and settings may be the program's own.
        opened: Option<&'c Opened>,
    }

    impl<'c> DirectConnection<'c> {
        pub(crate) fn of(opened: &'c Opened) -> DirectConnection<'c> {
            DirectConnection { connection: &opened.connection, opened: Some(opened) }
        }

        fn usual_limit(self) -> Option<Duration> {
            self.opened.and_then(|opened| opened.timeout.usual())
        }

        fn line(self) -> Line<DirectWire<'c>> {
            Line::new(DirectWire::new(self.connection, self.opened), self.usual_limit())
        }

        /// Restores session settings that hand-written text may have changed.
        fn reset_after(self, line: &Line<DirectWire<'c>>) -> Result<(), Error> {
            match self.opened {
                Some(opened) if line.is_altered() && self.connection.is_autocommit() => opened.reset(),
                _ => Ok(()),
            }
        }

        pub(crate) fn hold(self, root: Root) -> DirectHold<'c> {
            DirectHold { line: self.line(), connection: self, root }
        }
    }

    /// A connection that is locked while it is used, or lent by the program.
    pub(crate) enum Held<'a> {
        Locked(ReentrantMutexGuard<'a, Opened>),
        Lent(&'a Connection),
    }

    impl Held<'_> {
        fn get(&self) -> DirectConnection<'_> {
            match self {
                Held::Locked(opened) => DirectConnection::of(opened),
                Held::Lent(connection) => DirectConnection { connection, opened: None },
            }
        }
    }

    /// The connection of a transaction, which is rolled back if it is dropped without an end.
    pub(crate) struct DirectHold<'c> {
        line: Line<DirectWire<'c>>,
        connection: DirectConnection<'c>,
        root: Root,
    }

    impl<'c> Hold for DirectHold<'c> {
        type Wire = DirectWire<'c>;

        fn line(&mut self) -> &mut Line<DirectWire<'c>> {
            &mut self.line
        }
    }

    impl Drop for DirectHold<'_> {
        fn drop(&mut self) {
            let connection = self.line.wire.connection;
            // An error here has no caller to receive it; SQLite can always roll back.
            if self.line.is_in_transaction() && !connection.is_autocommit() {
                let _ = connection.execute_batch(&direct::undo_texts(self.root));
            }
            let _ = self.connection.reset_after(&self.line);
        }
    }

    /// A transaction on a connection of any lifetime.
    pub(crate) trait DirectWork {
        fn setting(&self) -> &Setting;
        fn check(&self, level: u32) -> Result<(), Error>;
        fn fetch(
            &self,
            level: u32,
            ask: &dyn Ask,
            sink: &mut dyn Sink,
            call: Option<CallLimit>,
        ) -> Result<(), Error>;
        fn open(&self, level: u32, owner: Owner) -> Result<u32, Error>;
        fn close(&self, level: u32, keep: bool) -> Result<(), Error>;
        fn abandon(&self, level: u32);
        fn after_commit(&self, level: u32, work: AfterCommit);
        fn note_write(&self, level: u32, err: &Error);
    }

    impl DirectWork for Work<DirectHold<'_>> {
        fn setting(&self) -> &Setting {
            &self.setting
        }

        fn check(&self, level: u32) -> Result<(), Error> {
            now(Work::check(self, level))
        }

        fn fetch(
            &self,
            level: u32,
            ask: &dyn Ask,
            sink: &mut dyn Sink,
            call: Option<CallLimit>,
        ) -> Result<(), Error> {
            now(Work::fetch(self, level, ask, sink, call))
        }

        fn open(&self, level: u32, owner: Owner) -> Result<u32, Error> {
            now(Work::open(self, level, owner))
        }

        fn close(&self, level: u32, keep: bool) -> Result<(), Error> {
            now(Work::close(self, level, keep))
        }

        fn abandon(&self, level: u32) {
            Work::abandon(self, level);
        }

        fn after_commit(&self, level: u32, work: AfterCommit) {
            Work::after_commit(self, level, work);
        }

        fn note_write(&self, level: u32, err: &Error) {
            Work::note_write(self, level, err);
        }
    }

    pub(crate) enum DirectAccess<'a> {
        /// No transaction of the library.
        Connection(Held<'a>, &'a Setting, Option<CallLimit>),
        Work(&'a (dyn DirectWork + 'a), DirectConnection<'a>, u32, Option<CallLimit>),
    }

    impl DirectAccess<'_> {
        pub(crate) fn setting(&self) -> &Setting {
            match self {
                DirectAccess::Connection(_, setting, _) => setting,
                DirectAccess::Work(work, ..) => work.setting(),
            }
        }

        fn connection(&self) -> DirectConnection<'_> {
            match self {
                DirectAccess::Connection(held, ..) => held.get(),
                DirectAccess::Work(_, connection, ..) => *connection,
            }
        }

        pub(crate) fn open(&self, ask: &dyn Ask) -> Result<DirectCursor<'_>, Error> {
            let mut statement = ask.statement(self.context())?.into_owned_binds();
            if let DirectAccess::Work(work, _, level, _) = self {
                work.check(*level)?;
            }
            let mut running = self.setting().begin(crate::engine::sqlite::DIALECT, &mut statement, ask.counts())?;
            let answer = running.answer();
            let direct = self.connection();
            let rows = match answer {
                Some(_) => None,
                None => {
                    let opened = OpenRows::open(direct.connection, &statement);
                    Some(opened.map_err(|err| statement.context(err))?)
                }
            };
            let inside = match self {
                DirectAccess::Connection(..) => None,
                DirectAccess::Work(work, _, level, _) => Some((*work, *level)),
            };
            let limit = self.setting().time_limit().or(direct.usual_limit());
            let opened = direct.opened;
            Ok(DirectCursor { inside, rows, opened, limit, statement, running, answer })
        }
    }

    impl DirectAccess<'_> {
        pub(crate) fn context(&self) -> CompileContext<'_> {
            self.setting().context(crate::engine::sqlite::DIALECT)
        }

        #[inline]
        pub(crate) fn fetch(&self, ask: &dyn Ask, sink: &mut dyn Sink) -> Result<(), Error> {
            match self {
                DirectAccess::Connection(held, setting, call) => {
                    let connection = held.get();
                    let mut line = connection.line();
                    line.begin_call(*call);
                    let kept = PolicySlot::default();
                    let mut statement = ask.statement(self.context().keeping(&kept))?;
                    let ran = now(run::alone(&mut line, setting, &mut statement, sink, ask));
                    // A failed statement may have changed settings in part.
                    ran.and(connection.reset_after(&line))
                }
                DirectAccess::Work(work, _, level, call) => work.fetch(*level, ask, sink, *call),
            }
        }

        pub(crate) fn begin_together(&self) -> Result<DirectAtomicScope<'_>, Error> {
            match self {
                DirectAccess::Connection(held, setting, _) => {
                    let connection = held.get();
                    let root = match connection.connection.is_autocommit() {
                        true => Root::Transaction(TransactionOptions::new()),
                        false => Root::Savepoint,
                    };
                    let (held, setting) = (connection.hold(root), setting.in_transaction());
                    let begun = now(Work::begin(held, setting, root, Owner::Library));
                    begun.map(|work| DirectAtomicScope::Own(OwnWork(work), connection))
                }
                DirectAccess::Work(work, connection, level, _) => {
                    let opened = work.open(*level, Owner::Library);
                    opened.map(|level| {
                        DirectAtomicScope::Inner(DirectInner { work: *work, level }, *connection)
                    })
                }
            }
        }

        pub(crate) fn note_write(&self, err: &Error) {
            if let DirectAccess::Work(work, _, level, _) = self {
                work.note_write(*level, err);
            }
        }
    }

    /// The rows of a statement that are read one after the other.
    pub(crate) struct DirectCursor<'a> {
        inside: Option<(&'a (dyn DirectWork + 'a), u32)>,
        rows: Option<OpenRows<'a>>,
        opened: Option<&'a Opened>,
        limit: Option<Duration>,
        statement: Statement<'static>,
        running: Running,
        answer: Option<Answer>,
    }

    impl DirectCursor<'_> {
        pub(crate) fn next(&mut self, sink: &mut dyn Sink, most: usize) -> Result<bool, Error> {
            let statement = &self.statement;
            let more = match (self.answer.take(), &mut self.rows) {
                (Some(answer), _) => {
                    answer.give(sink, statement.key_cells());
                    Ok(false)
                }
                (None, Some(rows)) => {
                    direct::within(self.opened, self.limit, || rows.next(statement, sink, most))
                }
                (None, None) => Ok(false),
            };
            if let (Some((work, level)), Err(err)) = (self.inside, &more) {
                work.note_write(level, err);
            }
            self.running.arrived(statement, sink, more)
        }
    }

    /// The scope that makes several statements atomic.
    #[expect(clippy::large_enum_variant, reason = "it lives once for each write of several statements")]
    pub(crate) enum DirectAtomicScope<'a> {
        Own(OwnWork<'a>, DirectConnection<'a>),
        Inner(DirectInner<'a>, DirectConnection<'a>),
    }

    /// A transaction that was begun. It is rolled back if it is dropped without an end.
    pub(crate) struct OwnWork<'a>(pub(crate) Work<DirectHold<'a>>);

    impl Drop for OwnWork<'_> {
        fn drop(&mut self) {
            self.0.let_go();
        }
    }

    /// A savepoint inside a transaction. It is rolled back if it is dropped without an end.
    pub(crate) struct DirectInner<'a> {
        pub(crate) work: &'a (dyn DirectWork + 'a),
        pub(crate) level: u32,
    }

    impl Drop for DirectInner<'_> {
        fn drop(&mut self) {
            // The state of an ended transaction is unknown.
            self.work.abandon(self.level);
        }
    }

    impl DirectAtomicScope<'_> {
        pub(crate) fn access(&self) -> DirectAccess<'_> {
            match self {
                DirectAtomicScope::Own(own, connection) => {
                    let call = own.0.setting.begin_call();
                    DirectAccess::Work(&own.0, *connection, Root::LEVEL, call)
                }
                DirectAtomicScope::Inner(inner, connection) => {
                    let call = inner.work.setting().begin_call();
                    DirectAccess::Work(inner.work, *connection, inner.level, call)
                }
            }
        }

        pub(crate) fn end(&mut self, keep: bool) -> Result<(), Error> {
            match self {
                DirectAtomicScope::Own(own, _) => now(own.0.end(keep)),
                DirectAtomicScope::Inner(inner, _) => inner.work.close(inner.level, keep),
            }
        }
    }
}
#[cfg(feature = "sqlite")]
pub(crate) use sqlite::{
    DirectAccess, DirectConnection, DirectCursor, DirectInner, DirectAtomicScope, DirectWork, Held,
    OwnWork,
};
