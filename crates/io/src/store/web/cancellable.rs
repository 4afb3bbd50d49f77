//! Connections whose waits look at whether the run is to stop.

use std::time::Instant;

use churn_core::cancel;
use ureq::unversioned::transport::{Buffers, ConnectionDetails, Connector, NextTimeout, Transport};
use ureq::{Error, Timeout};

use crate::store::aside::{LOOK, stopped};

/// Makes each connection that is opened one whose waits end when the run of the thread that waits is to stop.
#[derive(Debug)]
pub(super) struct CancellableConnector;

impl<In: Transport> Connector<In> for CancellableConnector {
    type Out = Cancellable<In>;

    fn connect(&self, _: &ConnectionDetails<'_>, chained: Option<In>) -> Result<Option<Self::Out>, Error> {
        Ok(chained.map(Cancellable))
    }
}

#[derive(Debug)]
pub(super) struct Cancellable<T>(T);

impl<T: Transport> Transport for Cancellable<T> {
    fn buffers(&mut self) -> &mut dyn Buffers {
        self.0.buffers()
    }

    fn transmit_output(&mut self, amount: usize, timeout: NextTimeout) -> Result<(), Error> {
        self.0.transmit_output(amount, timeout)
    }

    /// Waits as long as it is told, a short while at a time.
    fn await_input(&mut self, timeout: NextTimeout) -> Result<bool, Error> {
        let (start, whole) = (Instant::now(), timeout.for_read());
        let short = NextTimeout { per_read: Some(LOOK.into()), ..timeout };
        loop {
            if cancel::is_asked() {
                return Err(stopped().into());
            }
            match self.0.await_input(short) {
                Err(Error::Timeout(Timeout::PerRead)) => {}
                done => return done,
            }
            if whole.not_zero().is_some_and(|limit| start.elapsed() >= *limit) {
                return Err(Error::Timeout(whole.reason));
            }
        }
    }

    fn is_open(&mut self) -> bool {
        self.0.is_open()
    }

    fn is_tls(&self) -> bool {
        self.0.is_tls()
    }
}
