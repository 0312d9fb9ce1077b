//! Ends that tests ask for: of the whole process, or of one order's task as if its process had ended.

use futures::future::BoxFuture;
use std::{fmt, sync::Arc, time::Duration};
use zastrugi_store::TakenOrder;

/// A point between an order and its written result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Boundary {
    OrderTaken,
    CallSent,
    AnswerHad,
    ResultWritten,
}

impl Boundary {
    pub const ALL: [Boundary; 4] = [
        Boundary::OrderTaken,
        Boundary::CallSent,
        Boundary::AnswerHad,
        Boundary::ResultWritten,
    ];
}

impl std::str::FromStr for Boundary {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "order-taken" => Ok(Boundary::OrderTaken),
            "call-sent" => Ok(Boundary::CallSent),
            "answer-had" => Ok(Boundary::AnswerHad),
            "result-written" => Ok(Boundary::ResultWritten),
            other => Err(format!("{other} is no boundary")),
        }
    }
}

type Asked = dyn Fn(TakenOrder, Boundary) -> BoxFuture<'static, bool> + Send + Sync;

/// What shall end, and where.
#[derive(Clone, Default)]
pub enum Ends {
    #[default]
    Nowhere,
    /// This process, as in a power cut.
    Process(Boundary),
    /// The task of an order for which the answer is yes: nothing more is heard of it.
    Task(Arc<Asked>),
}

impl fmt::Debug for Ends {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Ends::Nowhere => f.write_str("Nowhere"),
            Ends::Process(at) => write!(f, "Process({at:?})"),
            Ends::Task(_) => f.write_str("Task"),
        }
    }
}

impl Ends {
    /// Ends the process here, if that is where it shall end; answers whether the order's task shall.
    pub(super) async fn at(&self, order: &TakenOrder, here: Boundary) -> bool {
        match self {
            Ends::Nowhere => false,
            Ends::Process(at) if *at == here => {
                kill();
                false
            }
            Ends::Process(_) => false,
            Ends::Task(asked) => asked(order.clone(), here).await,
        }
    }
}

impl Ends {
    /// Carries a call out, unless this process or the order's task ends while it is under way.
    pub(super) async fn during<T>(
        &self,
        order: &TakenOrder,
        call: impl Future<Output = T>,
    ) -> Option<T> {
        match self {
            Ends::Nowhere => Some(call.await),
            Ends::Process(at) => {
                if *at == Boundary::CallSent {
                    tokio::spawn(async {
                        tokio::time::sleep(Duration::from_millis(400)).await;
                        kill();
                    });
                }
                Some(call.await)
            }
            Ends::Task(_) => {
                if !self.at(order, Boundary::CallSent).await {
                    return Some(call.await);
                }
                // The device may or may not get it; nobody hears of it either way.
                drop(tokio::time::timeout(Duration::from_millis(30), call).await);
                None
            }
        }
    }
}

fn kill() {
    let me = std::process::id().to_string();
    drop(
        std::process::Command::new("kill")
            .args(["-9", &me])
            .status(),
    );
}
