//! The common part of sessions over connections of the program.

use std::sync::atomic::{AtomicBool, Ordering};

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use nepheline_core::internal::{CompileContext, PolicySlot, Statement};
use nepheline_core::{Dialect, Error};
use tokio::sync::Mutex;

use super::setting::Setting;
use crate::observe::interceptor::Interceptors;
use crate::engine::AsyncWire;
use crate::exec::ask::Ask;
use crate::exec::line::Line;
use crate::exec::run;
use crate::exec::sink::Sink;
use crate::observe::interceptor::Running;

/// A session over a connection of the program, of any lifetime.
pub(crate) trait SessionAccess: Sync {
    fn context(&self) -> CompileContext<'_>;

    fn dialect(&self) -> Dialect;

    fn interceptors(&self) -> &Interceptors;

    fn fetch<'f>(
        &'f self,
        ask: &'f dyn Ask,
        sink: &'f mut dyn Sink,
    ) -> BoxFuture<'f, Result<(), Error>>;

    fn open<'f>(
        &'f self,
        statement: &'f mut Statement<'static>,
        counts: bool,
    ) -> BoxFuture<'f, Result<Running, Error>>;

    fn next<'f>(
        &'f self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> BoxFuture<'f, Result<bool, Error>>;

    /// Records that the stream is no longer read.
    fn stream_dropped(&self);
}

/// The connection of a session, with its state.
pub(crate) struct Lent<W> {
    line: Mutex<Line<Box<W>>>,
    pub(crate) setting: Setting,
    pub(crate) dialect: Dialect,
    /// True while a stream is read.
    streams: AtomicBool,
}

impl<W: AsyncWire> Lent<W> {
    pub(crate) fn new(wire: W) -> Lent<W> {
        let wire = Box::new(wire);
        let (dialect, line) = (AsyncWire::dialect(&*wire), Mutex::new(Line::new(wire, None)));
        Lent { line, setting: Setting::default(), dialect, streams: AtomicBool::new(false) }
    }

    /// Returns the connection, after finishing anything left unread.
    #[cfg(feature = "mysql")]
    pub(crate) async fn into_wire(self) -> Result<W, Error> {
        let mut line = self.line.into_inner();
        line.settle().await?;
        Ok(*line.wire)
    }

    fn check_stream(&self) -> Result<(), Error> {
        match self.streams.load(Ordering::Acquire) {
            true => Err(Error::transaction_busy("a stream")),
            false => Ok(()),
        }
    }
}

impl<W: AsyncWire> SessionAccess for Lent<W> {
    fn context(&self) -> CompileContext<'_> {
        // A COPY that loses step with the server costs the connection, which belongs to the program here.
        CompileContext { copies: false, ..self.setting.context(self.dialect) }
    }

    fn dialect(&self) -> Dialect {
        self.dialect
    }

    fn interceptors(&self) -> &Interceptors {
        self.setting.interceptors()
    }

    fn fetch<'f>(
        &'f self,
        ask: &'f dyn Ask,
        sink: &'f mut dyn Sink,
    ) -> BoxFuture<'f, Result<(), Error>> {
        Box::pin(async move {
            let kept = PolicySlot::default();
            let mut statement = ask.statement(self.context().keeping(&kept))?;
            self.check_stream()?;
            let mut line = self.line.lock().await;
            run::alone(&mut line, &self.setting, &mut statement, sink, ask).await
        })
    }

    fn open<'f>(
        &'f self,
        statement: &'f mut Statement<'static>,
        counts: bool,
    ) -> BoxFuture<'f, Result<Running, Error>> {
        Box::pin(async move {
            self.check_stream()?;
            let mut line = self.line.lock().await;
            let running = self.setting.begin(self.dialect, statement, counts)?;
            if !running.has_answer() {
                let opened = line.open(statement).await;
                opened.map_err(|err| statement.context(err))?;
            }
            self.streams.store(true, Ordering::Release);
            Ok(running)
        })
    }

    fn next<'f>(
        &'f self,
        statement: &'f Statement<'_>,
        sink: &'f mut dyn Sink,
        most: usize,
    ) -> BoxFuture<'f, Result<bool, Error>> {
        let next = async move { self.line.lock().await.next(statement, sink, most).await };
        next.boxed()
    }

    fn stream_dropped(&self) {
        self.streams.store(false, Ordering::Release);
    }
}
