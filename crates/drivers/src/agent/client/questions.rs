//! What is asked inside a guest.

use super::Agent;
use reqwest::Method;
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;
use zastrugi_core::{estate::Question, runs::Fault};

/// What a guest answered; of what was not asked nothing.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct Answered {
    /// Why there is no answer.
    why: Option<String>,
    open: Option<bool>,
    status: Option<u16>,
    text: String,
    exit: Option<i32>,
    said: String,
}

/// The most of an answer that is kept in words.
const WORDS: usize = 200;

impl Answered {
    /// Whether that is a good answer to the question, and what was said.
    pub(crate) fn judged(self, question: &Question) -> (bool, String) {
        if let Some(why) = self.why {
            return (false, short(&why));
        }
        match question {
            Question::Tcp { port } => match self.open {
                Some(true) => (true, format!("something listens on port {port}")),
                Some(false) | None => (false, format!("nothing listens on port {port}")),
            },
            Question::Http { status, text, .. } => match self.status {
                None => (false, "no page was answered".into()),
                Some(got) if got != *status => {
                    (false, format!("status {got} in place of {status}"))
                }
                Some(got) if !self.text.contains(text.as_str()) => (
                    false,
                    format!("status {got}, without “{text}”: {}", short(&self.text)),
                ),
                Some(got) => (true, format!("status {got}: {}", short(&self.text))),
            },
            Question::Run { .. } => match self.exit {
                None => (false, "it did not end".into()),
                Some(0) => (true, format!("exit code 0{}", after(&self.said))),
                Some(code) => (false, format!("exit code {code}{}", after(&self.said))),
            },
        }
    }
}

fn after(said: &str) -> String {
    match short(said).as_str() {
        "" => String::new(),
        said => format!(": {said}"),
    }
}

/// One line of it, and no more than that.
fn short(text: &str) -> String {
    let line = text.trim().lines().next().unwrap_or_default();
    line.chars()
        .filter(|c| !c.is_control())
        .take(WORDS)
        .collect()
}

fn body(question: &Question) -> Value {
    match question {
        Question::Tcp { port } => json!({"kind": "tcp", "port": port}),
        Question::Http { port, path, .. } => json!({"kind": "http", "port": port, "path": path}),
        Question::Run { command } => json!({"kind": "run", "command": command}),
    }
}

impl Agent<'_> {
    /// Asks a guest one thing, inside; its host has its agent do it.
    pub(crate) async fn question(
        &self,
        uuid: &Uuid,
        question: &Question,
    ) -> Result<Answered, Fault> {
        let path = format!("/v1/machines/{uuid}/questions");
        let call = self.ask(Method::POST, path, None, Some(body(question)));
        self.http.call(call).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judged(question: &str, answer: &Value) -> (bool, String) {
        let answered: Answered = serde_json::from_value(answer.clone()).unwrap();
        answered.judged(&question.parse().unwrap())
    }

    /// If this fails, a guest whose service is broken counts as well, or one that is well does not.
    #[test]
    fn an_answer_is_good_only_if_it_is_the_one_that_was_wished() {
        let is = |question: &str, answer: Value| judged(question, &answer).0;
        assert!(is("tcp 22", json!({"open": true})));
        assert!(!is("tcp 22", json!({"open": false})));
        assert!(!is("tcp 22", json!({"why": "refused"})));
        // An answer to something else is none.
        assert!(!is("tcp 22", json!({"status": 200})));
        assert!(is(
            "http 80 / 200 is well",
            json!({"status": 200, "text": "ledger is well"})
        ));
        assert!(!is(
            "http 80 / 200 is well",
            json!({"status": 200, "text": "down for repair"})
        ));
        assert!(!is("http 80 /", json!({"status": 503, "text": ""})));
        assert!(is("http 80 /gone 404", json!({"status": 404, "text": ""})));
        assert!(is("run true", json!({"exit": 0})));
        assert!(!is("run true", json!({"exit": 3, "said": "stopped"})));
        assert!(!is("run true", json!({})));
    }

    /// If this fails, what a guest prints fills the journal, or the page obeys it.
    #[test]
    fn of_what_a_guest_says_one_short_line_is_kept() {
        let long = format!("{}\u{7}\nsecond", "x".repeat(999));
        let (_, said) = judged("run true", &json!({"exit": 1, "said": long}));
        assert_eq!(said.chars().count(), "exit code 1: ".len() + WORDS);
        assert!(!said.contains("second") && !said.contains('\u{7}'));
    }
}
