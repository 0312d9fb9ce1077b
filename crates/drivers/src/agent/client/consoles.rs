//! A machine's console and screen.

use super::{Agent, segment};
use crate::http::Watch;
use reqwest::Method;
use serde_json::json;
use uuid::Uuid;
use zastrugi_core::runs::Fault;

impl Agent<'_> {
    pub(crate) async fn console(&self, uuid: &Uuid, from: u64) -> Result<Watch, Fault> {
        let path = format!("/v1/machines/{uuid}/console?from={from}");
        self.http
            .follow(self.ask(Method::GET, path, None, None))
            .await
    }

    pub(crate) async fn type_text(&self, uuid: &Uuid, text: &str) -> Result<(), Fault> {
        let path = format!("/v1/machines/{uuid}/console");
        let body = json!({"text": text});
        self.tell(Method::POST, path, None, Some(body)).await
    }

    pub(crate) async fn resize_terminal(
        &self,
        uuid: &Uuid,
        columns: u16,
        rows: u16,
    ) -> Result<(), Fault> {
        let path = format!("/v1/machines/{uuid}/console");
        let body = json!({"columns": columns, "rows": rows});
        self.tell(Method::POST, path, None, Some(body)).await
    }

    pub(crate) async fn screen(
        &self,
        uuid: &Uuid,
        keyboard: &str,
    ) -> Result<reqwest::Upgraded, Fault> {
        let path = format!("/v1/machines/{uuid}/screen?keyboard={}", segment(keyboard));
        let mut call = self.ask(Method::GET, path, None, None);
        call.headers.push(("connection", "upgrade".into()));
        call.headers.push(("upgrade", "rfb".into()));
        self.http.upgrade(&call).await
    }

    pub(crate) async fn picture(&self, uuid: &Uuid, kept: Option<i64>) -> Result<Vec<u8>, Fault> {
        let which = kept.map_or_else(String::new, |number| format!("?kept={number}"));
        let path = format!("/v1/machines/{uuid}/picture{which}");
        self.http
            .fetch(&self.ask(Method::GET, path, None, None))
            .await
    }
}
