//! The same done twice: once in peace, once with each step ended at every boundary.

use super::{Ended, Steps, deeds, everywhere, kinds};
use crate::lab::Lab;
use sqlx::PgPool;
use std::collections::BTreeSet;
use uuid::Uuid;
use zastrugi_core::{road::Work, rooms::Step};
use zastrugi_engine::Boundary;
use zastrugi_standins::Scenario;
use zastrugi_store::testkit::url;

/// Two laboratories in which the same was done; in the first each step ended at every boundary.
pub(super) struct Twins {
    pub(super) rough: Lab,
    pub(super) calm: Lab,
    calm_name: String,
}

impl Twins {
    /// Of these rooms every kind of step has to occur.
    pub(super) async fn of(
        pool: &PgPool,
        world: impl Fn() -> Scenario,
        tour: impl AsyncFn(&Lab) -> Steps,
        rooms: impl Fn(&str) -> bool,
    ) -> Twins {
        let base = url(pool);
        let calm_name = format!("_sqlx_test_calm_{}", Uuid::new_v4().simple());
        let make = sqlx::AssertSqlSafe(format!("create database {calm_name}"));
        sqlx::query(make).execute(pool).await.unwrap();
        let calm_base = format!("{}/{calm_name}", &base[..base.rfind('/').unwrap()]);
        let calm = Lab::with(&calm_base, world(), 40.0, |_| {}).await;
        let ended = Ended::default();
        let ends = everywhere(pool, &ended);
        let rough = Lab::with(&base, world(), 40.0, |s| s.ends = ends).await;
        let (_, steps) = tokio::join!(tour(&calm), tour(&rough));

        let told: Vec<_> = steps.iter().filter(|(_, s)| s.record().is_none()).collect();
        let occurred = steps.values().flat_map(kinds).filter(|k| rooms(&k.0));
        let kinds = Step::kinds().filter(|(room, _)| rooms(room));
        assert_eq!(
            occurred.collect::<BTreeSet<_>>(),
            kinds
                .map(|(room, kind)| (room.to_owned(), kind.to_owned()))
                .collect::<BTreeSet<_>>(),
            "a kind of step that is not tried"
        );
        let ended = ended.lock().unwrap().clone();
        for ((run, n), step) in told {
            for at in Boundary::ALL {
                assert!(
                    ended.contains(&(*run, *n, at)),
                    "{step:?} was not ended at {at:?}"
                );
            }
        }
        assert_eq!(deeds(&rough), deeds(&calm));
        rough.assert_once();
        Twins {
            rough,
            calm,
            calm_name,
        }
    }

    /// Answers the rough one.
    pub(super) async fn part(self, pool: &PgPool) -> Lab {
        self.calm.engine.stop().await;
        let name = &self.calm_name;
        let drop = sqlx::AssertSqlSafe(format!("drop database {name} with (force)"));
        sqlx::query(drop).execute(pool).await.unwrap();
        self.rough
    }
}
