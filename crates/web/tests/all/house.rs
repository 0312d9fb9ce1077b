//! A house with three people, an estate without devices, and the pages.

use rocket::{
    http::{ContentType, Cookie, Header, Status},
    local::asynchronous::{Client, LocalResponse},
};
use sqlx::PgPool;
use std::net::SocketAddr;
use tokio::net::TcpListener;
use zastrugi_core::{estate::Estate, permits::Role, testkit::read};
use zastrugi_engine::{Engine, EngineSettings};
use zastrugi_store::testkit::{keep, url};
use zastrugi_web::{WebSettings, pages};

pub(crate) const PEOPLE: [(&str, Role); 3] = [
    ("vera", Role::Viewer),
    ("otto", Role::Operator),
    ("ada", Role::Admin),
];
pub(crate) const PASSWORD: &str = "tide and time";
pub(crate) const ESTATE: &str = "cluster eider\nhost 1 256\nhost 2 256\nmachine 7 db 64 on 1 label=app:tickets\nmachine 8 web 16 off\nmachine 9 gone 8 off deleted";

pub(crate) struct House {
    pub(crate) client: Client,
    engine: Engine,
}

impl House {
    pub(crate) async fn new(pool: &PgPool, text: &str) -> House {
        House::served(pool, text, false).await
    }

    pub(crate) async fn served(pool: &PgPool, text: &str, behind_proxy: bool) -> House {
        House::with(pool, &read(text).view.estate, behind_proxy).await
    }

    pub(crate) async fn of(pool: &PgPool, estate: &Estate) -> House {
        House::with(pool, estate, false).await
    }

    async fn with(pool: &PgPool, estate: &Estate, behind_proxy: bool) -> House {
        keep(pool, estate).await;
        let settings = EngineSettings {
            networks: "127.1.0.0/16".into(),
            ..EngineSettings::new(url(pool), [3; 32])
        };
        let engine = Engine::start(settings).await.unwrap();
        for (name, role) in PEOPLE {
            engine
                .desk()
                .add_person(name, role, PASSWORD)
                .await
                .unwrap();
        }
        let web = WebSettings {
            behind_proxy,
            ..WebSettings::default()
        };
        let client = Client::untracked(pages(engine.desk(), web)).await.unwrap();
        House { client, engine }
    }

    /// The same house, also on a real socket with its front.
    pub(crate) async fn open(&self, settings: WebSettings) -> SocketAddr {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = listener.local_addr().unwrap();
        tokio::spawn(zastrugi_web::serve(self.engine.desk(), settings, listener));
        at
    }

    pub(crate) fn desk(&self) -> zastrugi_engine::Desk {
        self.engine.desk()
    }

    /// The session cookie of somebody who signed in.
    pub(crate) async fn sign_in(&self, name: &str) -> Cookie<'static> {
        let answer = self.sign_in_with(name, PASSWORD, "same-origin").await;
        assert_eq!(answer.status(), Status::SeeOther);
        answer
            .cookies()
            .get("zastrugi")
            .unwrap()
            .clone()
            .into_owned()
    }
    pub(crate) async fn sign_in_with(
        &self,
        name: &str,
        password: &str,
        site: &str,
    ) -> LocalResponse<'_> {
        self.client
            .post("/sign-in")
            .header(ContentType::Form)
            .header(Header::new("Sec-Fetch-Site", site.to_owned()))
            .body(format!("name={name}&password={password}"))
            .dispatch()
            .await
    }
    pub(crate) async fn get(&self, cookie: &Cookie<'static>, path: &str) -> (Status, String) {
        let answer = self
            .client
            .get(path.to_owned())
            .cookie(cookie.clone())
            .dispatch()
            .await;
        (
            answer.status(),
            answer.into_string().await.unwrap_or_default(),
        )
    }
    /// The session's CSRF token, as it stands in every page.
    pub(crate) async fn token(&self, cookie: &Cookie<'static>) -> String {
        let (_, page) = self.get(cookie, "/").await;
        let at = page.find("data-csrf=\"").unwrap() + 11;
        page[at..].split('"').next().unwrap().to_owned()
    }
    pub(crate) async fn post(
        &self,
        cookie: &Cookie<'static>,
        path: &str,
        body: String,
    ) -> (Status, String) {
        let answer = self
            .client
            .post(path.to_owned())
            .cookie(cookie.clone())
            .header(ContentType::Form)
            .header(Header::new("Sec-Fetch-Site", "same-origin"))
            .body(body)
            .dispatch()
            .await;
        let status = answer.status();
        let to = answer
            .headers()
            .get_one("Location")
            .unwrap_or_default()
            .to_owned();
        (
            status,
            if status == Status::SeeOther {
                to
            } else {
                answer.into_string().await.unwrap_or_default()
            },
        )
    }
}
