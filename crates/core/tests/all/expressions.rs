//! Expressions of labels: what they mean, what is none, and that what is written is read as the same.

use proptest::prelude::*;
use zastrugi_core::expression::Expression;

/// If this fails, whoever writes an expression gives a pledge to others than they meant.
#[test]
fn expressions_mean_what_they_read_like() {
    let has = |text: &str, labels: &[(&str, &str)]| {
        let labels = labels
            .iter()
            .map(|(k, v)| ((*k).into(), (*v).into()))
            .collect();
        Expression::read(text).unwrap().fits(&labels)
    };
    let web = [("env", "prod"), ("app", "web"), ("scratch", "")];
    assert!(has("env=prod", &web) && !has("env=test", &web));
    assert!(
        has("scratch", &web) && has("app", &web),
        "a key alone is any value"
    );
    assert!(
        has("scratch=\"\"", &web) && !has("app=\"\"", &web),
        "and none is none"
    );
    assert!(has("env=test or env=prod and app=web", &web));
    assert!(
        !has("(env=test or env=prod) and app=db", &web),
        "parentheses first"
    );
    assert!(has("not env=test and app=web", &web) && !has("not (env=prod or app=db)", &web));
    assert!(has("NOT env=test AND app=web", &web), "whichever case");
    for (odd, word) in [
        ("", "which labels"),
        ("env=", "missing"),
        ("env=prod app=web", "“and” or “or”"),
        ("env=prod and", "at the end"),
        ("and env=prod", "Before “and”"),
        ("(env=prod", "not closed"),
        ("env=prod)", "“)”"),
        ("e!v=prod", "can't stand"),
        ("env=\"prod", "quotation mark"),
    ] {
        let said = Expression::read(odd).unwrap_err();
        assert!(said.contains(word), "{odd}: {said}");
    }
    let deep = format!("{}a{}", "(".repeat(40), ")".repeat(40));
    assert!(Expression::read(&deep).unwrap_err().contains("deep"));
    assert!(
        Expression::read(&"not ".repeat(4000)).is_err(),
        "and no stack is lost"
    );
}

fn expressions() -> impl Strategy<Value = Expression> {
    let key = prop::sample::select(vec!["env", "app", "tier", "scratch"]);
    let value = prop::sample::select(vec!["a", "b", "two words", "x(1)", ""]);
    let leaf = prop_oneof![
        key.clone().prop_map(|k| Expression::Key(k.into())),
        (key, value).prop_map(|(k, v)| Expression::Is(k.into(), v.into())),
    ];
    leaf.prop_recursive(3, 12, 3, |inner| {
        let several = prop::collection::vec(inner.clone(), 2..4);
        prop_oneof![
            inner.prop_map(|e| Expression::Not(Box::new(e))),
            several.clone().prop_map(Expression::All),
            several.prop_map(Expression::Any),
        ]
    })
}

proptest! {
    /// If this fails, a pledge that was stored means other machines after the next start.
    #[test]
    fn what_is_written_is_read_as_the_same(e in expressions(), sets in prop::collection::vec(
        prop::collection::btree_map("env|app|tier|scratch", "a|b|two words|", 0..4), 8)) {
        let again = Expression::read(&e.to_string()).unwrap();
        for labels in &sets {
            prop_assert_eq!(e.fits(labels), again.fits(labels), "{} / {}", e, again);
        }
        prop_assert_eq!(again.to_string(), Expression::read(&again.to_string()).unwrap().to_string());
    }
}
