//! Markup that assistive technology rests on: one heading, labels, identifiers once, pictures with words.

use crate::house::{ESTATE, House};
use sqlx::PgPool;
use std::collections::BTreeSet;

/// Every tag of a page with its attributes, in order.
fn tags(html: &str) -> Vec<(String, String)> {
    html.split('<')
        .skip(1)
        .filter_map(|t| t.split('>').next())
        .filter(|t| t.starts_with(|c: char| c.is_ascii_alphabetic()))
        .map(|t| {
            let (name, rest) = t.split_once(char::is_whitespace).unwrap_or((t, ""));
            (name.to_owned(), rest.to_owned())
        })
        .collect()
}

fn attribute<'a>(rest: &'a str, name: &str) -> Option<&'a str> {
    let at = format!("{name}=\"");
    rest.split(&at[..])
        .nth(1)
        .filter(|_| rest.starts_with(&at) || rest.contains(&format!(" {at}")))
        .and_then(|r| r.split('"').next())
}

/// What is wrong with a page, in words.
pub(crate) fn wrongs(html: &str) -> Vec<String> {
    let all = tags(html);
    let mut wrong = Vec::new();
    let headings = all.iter().filter(|(n, _)| n == "h1").count();
    if headings != 1 {
        wrong.push(format!("{headings} h1"));
    }
    let labelled: BTreeSet<&str> = all
        .iter()
        .filter(|(n, _)| n == "label")
        .filter_map(|(_, rest)| attribute(rest, "for"))
        .collect();
    let mut ids = BTreeSet::new();
    let mut position = 0;
    for (name, rest) in &all {
        let at = html[position..].find(&format!("<{name}")).unwrap() + position;
        let before = &html[..at];
        let depth_of_label = before.matches("<label").count() - before.matches("</label>").count();
        position = at + 1;
        if let Some(id) = attribute(rest, "id")
            && !ids.insert(id)
        {
            wrong.push(format!("#{id} twice"));
        }
        let field = matches!(name.as_str(), "input" | "select" | "textarea");
        let hidden = attribute(rest, "type") == Some("hidden");
        let named = attribute(rest, "aria-label").is_some()
            || attribute(rest, "id").is_some_and(|id| labelled.contains(id))
            || depth_of_label > 0;
        if field && !hidden && !named {
            wrong.push(format!("<{name} {rest}> has no label"));
        }
        let picture = name == "svg";
        let told = ["aria-hidden", "aria-label", "aria-labelledby"]
            .iter()
            .any(|a| attribute(rest, a).is_some());
        // Glyphs stand beside their word inside links of the rail.
        if picture
            && !told
            && !before.ends_with("page\">")
            && !rest.contains("viewBox=\"0 0 24 18\"")
        {
            wrong.push(format!("<svg {rest}> says nothing"));
        }
        if rest.contains("style=\"") || rest.contains(" onclick=") {
            wrong.push(format!("<{name}> carries a style or a script"));
        }
    }
    wrong
}

#[test]
fn the_walker_sees_what_is_wrong() {
    let bad = "<h1>a</h1><h1>b</h1><input id=\"x\" name=\"x\"><svg width=\"3\"></svg><p id=\"x\" style=\"a\"></p>";
    assert_eq!(wrongs(bad).len(), 5, "{:?}", wrongs(bad));
    let good = "<h1>a</h1><label for=\"x\">X</label><input id=\"x\"><label>Y <input name=\"y\"></label><input type=\"hidden\" name=\"z\"><svg aria-hidden=\"true\"></svg>";
    assert_eq!(wrongs(good), Vec::<String>::new());
}

#[sqlx::test(migrations = false)]
async fn every_page_has_one_heading_and_every_field_a_label(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("ada").await;
    for path in [
        "/",
        "/hosts",
        "/hosts/look",
        "/hosts/1",
        "/clusters/901",
        "/machines",
        "/machines?state=deleted",
        "/machines/7",
        "/logbook",
        "/logbook/events",
        "/settings",
        "/settings/people",
        "/settings/stand-by",
        "/sheet/new-machines",
        "/sheet/new-cluster",
        "/sheet/edit-machines?ids=7",
        "/sheet/edit-machines?ids=7,8",
        "/sheet/edit-host?ids=1",
        "/sheet/edit-cluster?ids=901",
        "/sheet/power?act=on&ids=8",
        "/sheet/delete?ids=8",
        "/sheet/recover?ids=9",
        "/sheet/purge?ids=9",
        "/sheet/hand-back?ids=2",
    ] {
        let (_, page) = house.get(&cookie, path).await;
        assert_eq!(wrongs(&page), Vec::<String>::new(), "{path}");
    }
}
