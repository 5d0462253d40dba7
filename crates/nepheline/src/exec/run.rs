//! The run of one statement, with the interceptors around it and its context in errors.

use nepheline_core::{Error, ErrorKind};
use nepheline_core::internal::Statement;

use super::ask::Ask;
use super::line::{Line, Wire};
use super::sink::{Gathering, Sink};
use super::together::Sent;
use crate::access::setting::Setting;

/// Runs a statement on a connection. `counts` is true if budgets count it.
pub(crate) async fn on<W: Wire>(
    line: &mut Line<W>,
    setting: &Setting,
    statement: &mut Statement<'_>,
    sink: &mut dyn Sink,
    counts: bool,
) -> Result<(), Error> {
    for mut before in line.wire.before(statement) {
        let mut refusals = Gathering::<bool, Vec<bool>>::default();
        one(line, setting, &mut before, &mut refusals, false).await?;
        if refusals.finish().contains(&false) {
            return Err(Error::cannot_copy().asked_at(statement.origin()));
        }
    }
    one(line, setting, statement, sink, counts).await
}

async fn one<W: Wire>(
    line: &mut Line<W>,
    setting: &Setting,
    statement: &mut Statement<'_>,
    sink: &mut dyn Sink,
    counts: bool,
) -> Result<(), Error> {
    let mut running = setting.begin(line.wire.dialect(), statement, counts)?;
    let ran = match running.answer() {
        Some(answer) => {
            answer.give(sink, statement.key_cells());
            Ok(())
        }
        None => line.run(statement, sink).await,
    };
    let ran = match sink.take_misfit() {
        Some(misfit) if ran.is_ok() => Err(misfit),
        _ => ran,
    };
    running.end(ran, |()| sink.seen()).map_err(|err| statement.context(err))
}

/// Runs independent reads on a connection, sent together where the driver can. Interceptors see each before any is
/// sent.
pub(crate) async fn together<W: Wire>(
    line: &mut Line<W>,
    setting: &Setting,
    mut reads: Vec<Sent<'_>>,
) -> Result<(), Error> {
    let dialect = line.wire.dialect();
    let begun = reads.iter_mut().map(|read| setting.begin(dialect, &mut read.statement, read.counts));
    let mut begun = begun.collect::<Result<Vec<_>, Error>>()?;
    let sent = reads.iter().zip(&begun).filter(|(_, running)| !running.has_answer());
    let sent: Vec<&Statement<'_>> = sent.map(|(read, _)| &read.statement).collect();
    line.send_ahead(&sent).await?;
    for (read, mut running) in reads.iter_mut().zip(begun.drain(..)) {
        let (statement, sink) = (&read.statement, &mut *read.sink);
        let ran = match running.answer() {
            Some(answer) => {
                answer.give(sink, statement.key_cells());
                Ok(())
            }
            None => line.run_sent(statement, sink).await,
        };
        let ran = match sink.take_misfit() {
            Some(misfit) if ran.is_ok() => Err(misfit),
            _ => ran,
        };
        running.end(ran, |()| sink.seen()).map_err(|err| statement.context(err))?;
    }
    Ok(())
}

/// Runs a statement outside a transaction.
pub(crate) async fn alone<W: Wire>(
    line: &mut Line<W>,
    setting: &Setting,
    statement: &mut Statement<'_>,
    sink: &mut dyn Sink,
    ask: &dyn Ask,
) -> Result<(), Error> {
    let ran = on(line, setting, statement, sink, ask.counts()).await;
    ran.map_err(|err| {
        let unknown = err.kind() == ErrorKind::ConnectionLost || line.is_unanswered();
        match unknown && statement.operation().may_write() {
            true => err.resolution_unknown(),
            false => err,
        }
    })
}
