use proptest::prelude::*;

use crate::frames::Number;

use super::{Lookup, Pattern, Template, TroubleKind, Value, expand, slug};

fn lookup(name: &str) -> Lookup {
    match name {
        "renders" => Lookup::Value(Value::Folder("/r".into())),
        "camera" => Lookup::Value(Value::Text("quay".into())),
        "title" => Lookup::Value(Value::Text("Fähre / Nacht".into())),
        "version" => Lookup::Value(Value::Version(3)),
        "width" => Lookup::Value(Value::Number(640)),
        "frame" => Lookup::Value(Value::Frame),
        "pass" => Lookup::NoValue,
        _ => Lookup::Unknown,
    }
}

#[test]
fn tokens_expand_as_the_guide_says() {
    for (template, name) in [
        ("{renders}/{camera}{_pass}.{frame}.png", "/r/quay.0007.png"),
        ("{version}{version:4}{-camera}{width:6}", "v003v0003-quay000640"),
        ("{camera|upper}_{title|slug}.{frame:2}", "QUAY_fahre-nacht.07"),
        ("{{x}}{frame:1}", "{x}7"),
    ] {
        let (pattern, troubles) = expand(&Template::parse(template).expect(template), &lookup);
        assert_eq!((pattern.name(Number::new(7)), troubles), (name.to_owned(), vec![]), "{template}");
    }
}

#[test]
fn troubles_carry_their_place_and_kind() {
    let template = Template::parse("{nope}{pass}{title}{camera:3}").expect("legal");
    let (_, troubles) = expand(&template, &lookup);
    let found: Vec<_> = troubles.into_iter().map(|trouble| (trouble.range, trouble.kind)).collect();
    assert_eq!(
        found,
        [
            (0..6, TroubleKind::Unknown),
            (6..12, TroubleKind::NoValue),
            (12..19, TroubleKind::Unfit("Fähre / Nacht".into(), "contains a slash or backslash")),
            (19..29, TroubleKind::Form)
        ]
    );
    for (text, range) in
        [("a}b", 1..2), ("a{b", 1..2), ("{}", 0..2), ("{a|b}", 0..5), ("{a:x}", 0..5), ("{t:%Q}", 0..6)]
    {
        assert_eq!(Template::parse(text).expect_err(text).range, range, "{text}");
    }
}

#[test]
fn names_are_read_back_even_beside_digits() {
    let pattern = |text: &str| expand(&Template::parse(text).expect(text), &lookup).0;
    assert_eq!(pattern("a{frame:2}").read("a0123"), None, "more than two digits begin with no zero");
    assert_eq!(pattern("a{frame:2}").read("a123"), Some(Number::new(123)));
    assert_eq!(pattern("a{frame:4}9.png").read("a00129.png"), Some(Number::new(12)));
    assert_eq!(pattern("{frame:2}/{frame:3}").read("07/007"), Some(Number::new(7)));
    assert_eq!(pattern("{frame:2}/{frame:3}").read("07/008"), None);
    assert_eq!(pattern("a{frame:4}").read("a-0012"), Some(Number::new(-12)));
    assert_eq!(pattern("plain.png").read("plain.png"), Some(Number::new(0)));
}

proptest! {
    #[test]
    fn templates_print_as_spelt_and_names_read_back(
        pieces in prop::collection::vec(prop_oneof!["[a-zäÖ_./]{0,4}".prop_map(|t| t), Just("{frame:3}".to_owned()), Just("{camera}".to_owned()), Just("{{".to_owned())], 0..6),
        frame in -5000i64..5000,
    ) {
        let text = pieces.concat();
        if let Ok(template) = Template::parse(&text) {
            prop_assert_eq!(template.to_string(), text);
            let (pattern, _) = expand(&template, &lookup);
            let number = Number::new(frame);
            let read = pattern.read(&pattern.name(number));
            prop_assert_eq!(read, Some(Number::new(if pattern.frame_width().is_some() { frame } else { 0 })));
            let (folder, file) = pattern.split_folder();
            prop_assert_eq!(format!("{}{}", folder.name(number), file.name(number)), pattern.name(number));
        }
    }

    #[test]
    fn no_text_is_too_odd_to_be_read(text in "\\PC*") {
        if let Ok(template) = Template::parse(&text) {
            let _ = expand(&template, &lookup);
        }
        prop_assert!(slug(&text).chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-'));
        let mut pattern = Pattern::default();
        pattern.push_frame(3);
        pattern.push_text(&text);
        prop_assert_eq!(pattern.read(&pattern.name(Number::new(12))), Some(Number::new(12)));
    }
}
