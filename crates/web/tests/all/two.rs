//! Two people at one sheet at once: machines, clusters, rules, kept addresses alike.

use crate::house::{ESTATE, House};
use rocket::http::{Cookie, Status};
use sqlx::PgPool;
use std::collections::BTreeMap;
use zastrugi_core::{
    estate::{Fact, PlaceRule, RuleKind, Who},
    ids::{ClusterId, MachineId, NetworkId},
    testkit::{network, read},
};

/// A sheet as somebody has it open: its fields by name.
struct Open {
    cookie: Cookie<'static>,
    at: String,
    fields: BTreeMap<String, String>,
}

fn attribute(tag: &str, name: &str) -> Option<String> {
    let from = tag.split(&format!("{name}=\"")).nth(1)?;
    let text = from.split('"').next()?;
    Some(
        text.replace("&quot;", "\"")
            .replace("&#34;", "\"")
            .replace("&#38;", "&")
            .replace("&amp;", "&"),
    )
}

impl Open {
    async fn new(house: &House, who: &str, at: &str) -> Open {
        let cookie = house.sign_in(who).await;
        let (status, page) = house.get(&cookie, at).await;
        assert_eq!(status, Status::Ok, "{at}");
        let at = at.split('?').next().unwrap().to_owned();
        let fields = Open::read(&page);
        Open { cookie, at, fields }
    }
    fn read(page: &str) -> BTreeMap<String, String> {
        let form = page.split("<form id=\"sheet\"").nth(1).unwrap();
        let form = form.split("</form>").next().unwrap();
        let mut fields = BTreeMap::new();
        for tag in form.split("<input").skip(1) {
            let tag = tag.split('>').next().unwrap();
            let ticks = tag.contains("type=\"checkbox\"") || tag.contains("type=\"radio\"");
            if let Some(name) = attribute(tag, "name").filter(|_| !ticks || tag.contains("checked"))
            {
                let value = attribute(tag, "value").unwrap_or(if ticks {
                    "on".into()
                } else {
                    String::new()
                });
                fields.insert(name, value);
            }
        }
        for area in form.split("<textarea").skip(1) {
            let (tag, rest) = area.split_once('>').unwrap();
            let text = rest.split("</textarea>").next().unwrap();
            fields.insert(attribute(tag, "name").unwrap(), text.to_owned());
        }
        for select in form.split("<select").skip(1) {
            let name = attribute(select, "name").unwrap();
            let body = select.split("</select>").next().unwrap();
            let chosen = body
                .split("<option")
                .skip(1)
                .find(|o| o.split('>').next().unwrap().contains("selected"));
            let first = body.split("<option").nth(1);
            let value = chosen.or(first).and_then(|o| attribute(o, "value"));
            fields.insert(name, value.unwrap_or_default());
        }
        fields
    }
    fn with(mut self, name: &str, value: &str) -> Open {
        self.fields.insert(name.into(), value.into());
        self
    }
    /// Presses Run. Where it comes back with words, it is open again as it came.
    async fn run(&mut self, house: &House) -> (Status, String) {
        let mut body = form_urlencoded::Serializer::new(String::new());
        body.extend_pairs(&self.fields);
        let (status, page) = house.post(&self.cookie, &self.at, body.finish()).await;
        if status == Status::UnprocessableEntity {
            self.fields = Open::read(&page);
        }
        (status, page)
    }
}

async fn until(house: &House, what: &str, so: impl Fn(&House) -> bool) {
    for _ in 0..100 {
        if so(house) {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    unreachable!("{what}");
}

#[sqlx::test(migrations = false)]
async fn two_who_change_different_things_of_a_machine_both_win(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let at = "/sheet/edit-machines?ids=7";
    let mut first = Open::new(&house, "otto", at)
        .await
        .with("note", "for the spring");
    let mut second = Open::new(&house, "ada", at)
        .await
        .with("labels", "app=tickets owner=ada");
    assert_eq!(first.run(&house).await.0, Status::SeeOther);
    let machine = |h: &House| h.desk().look().estate.machines[&MachineId(7)].clone();
    until(&house, "the first is written", |h| {
        machine(h).note == "for the spring"
    })
    .await;
    assert_eq!(second.run(&house).await.0, Status::SeeOther);
    until(&house, "the second is written", |h| {
        machine(h).labels.contains_key("owner")
    })
    .await;
    assert_eq!(
        machine(&house).note,
        "for the spring",
        "what the first changed is not undone"
    );
}

#[sqlx::test(migrations = false)]
async fn the_later_of_two_who_change_the_same_is_shown_it_and_confirms(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let at = "/sheet/edit-cluster?ids=901";
    let mut first = Open::new(&house, "ada", at).await.with("note", "hers");
    let mut second = Open::new(&house, "ada", at).await.with("note", "mine");
    assert_eq!(first.run(&house).await.0, Status::SeeOther);
    let note = |h: &House| {
        h.desk().look().estate.clusters[&ClusterId(901)]
            .note
            .clone()
    };
    until(&house, "the first is written", |h| note(h) == "hers").await;
    let (status, page) = second.run(&house).await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(
        page.contains("somebody changed the same meanwhile"),
        "{page}"
    );
    assert!(page.contains("Meanwhile somebody made it “hers”"), "{page}");
    assert_eq!(second.fields["note"], "mine", "what was typed is kept");
    assert_eq!(note(&house), "hers");
    assert_eq!(
        second.run(&house).await.0,
        Status::SeeOther,
        "run again is the confirmation"
    );
    until(&house, "the second is written", |h| note(h) == "mine").await;
}

#[sqlx::test(migrations = false)]
async fn rules_and_kept_addresses_of_two_people_both_stay(pool: PgPool) {
    let small = read(ESTATE);
    let mut estate = (*small.view.estate).clone();
    let mut cluster = (*estate.clusters[&ClusterId(901)]).clone();
    cluster.rules = vec![PlaceRule {
        name: "pair".into(),
        kind: RuleKind::Apart,
        who: Who::Machines([MachineId(7), MachineId(8)].into()),
        required: false,
    }];
    estate.put(Fact::Cluster(cluster.into()));
    let mut crew = network(NetworkId(600), "crew");
    crew.subnets = vec![
        serde_json::from_value(serde_json::json!({
            "net": "10.9.0.0/24", "gateway": null, "ranges": []
        }))
        .unwrap(),
    ];
    estate.put(Fact::Network(crew.into()));
    let house = House::of(&pool, &estate).await;
    // One adds a rule while the other has an old one open.
    let mut first = Open::new(&house, "ada", "/sheet/rule?ids=901")
        .await
        .with("name", "alone")
        .with("kind", "pinned")
        .with("hosts", "h1")
        .with("machines", "db");
    let mut second = Open::new(&house, "ada", "/sheet/rule?ids=901&was=pair")
        .await
        .with("required", "on");
    let (status, page) = first.run(&house).await;
    assert_eq!(status, Status::SeeOther, "{page}");
    let rules = |h: &House| {
        let all = h.desk().look().estate.clusters[&ClusterId(901)]
            .rules
            .clone();
        all.iter()
            .map(|r| (r.name.to_string(), r.required))
            .collect::<BTreeMap<_, _>>()
    };
    until(&house, "the new rule", |h| rules(h).len() == 2).await;
    assert_eq!(second.run(&house).await.0, Status::SeeOther);
    until(&house, "the old one is required", |h| rules(h)["pair"]).await;
    assert!(rules(&house).contains_key("alone"), "{:?}", rules(&house));
    // Kept addresses.
    let at = "/sheet/edit-network?ids=600";
    let mut first = Open::new(&house, "ada", at)
        .await
        .with("reserved", "10.9.0.5,printer");
    let mut second = Open::new(&house, "ada", at)
        .await
        .with("reserved", "10.9.0.6,camera");
    let (status, page) = first.run(&house).await;
    assert_eq!(status, Status::SeeOther, "{page}");
    let kept = |h: &House| {
        h.desk().look().estate.networks[&NetworkId(600)]
            .reserved
            .len()
    };
    until(&house, "the first is kept", |h| kept(h) == 1).await;
    assert_eq!(second.run(&house).await.0, Status::SeeOther);
    until(&house, "both are kept", |h| kept(h) == 2).await;
}

#[sqlx::test(migrations = false)]
async fn what_was_typed_stands_in_the_address_and_comes_back_with_it(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("otto").await;
    let at = "/sheet/new-machines?sent=1&name=stowage-%7B01%7D&count=12&memory=24+GiB&note=for+the+spring";
    let (_, page) = house.get(&cookie, at).await;
    let fields = Open::read(&page);
    for (name, value) in [
        ("name", "stowage-{01}"),
        ("count", "12"),
        ("memory", "24 GiB"),
        ("note", "for the spring"),
    ] {
        assert_eq!(fields[name], value);
    }
    assert!(
        !fields.contains_key("start"),
        "a box that was not ticked stays so"
    );
}
