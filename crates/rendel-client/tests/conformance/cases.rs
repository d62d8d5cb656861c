//! The cases of every kind and rule: two edits, concurrent and not, and longer stories.

use rendel_core::Edit;
use serde_json::{Value, json};

use crate::scenario::Scenario;

/// Two edits of one field under one rule.
pub(crate) struct Example {
    pub(crate) rule: &'static str,
    pub(crate) state: &'static str,
    pub(crate) opening: fn() -> Value,
    pub(crate) first: fn() -> Edit,
    pub(crate) second: fn() -> Edit,
    /// Where to look at what stands.
    pub(crate) at: &'static str,
}

fn set(value: impl Into<Value>) -> Edit {
    Edit::new("/blend", "set").with("value", value)
}

fn splice(index: usize, delete: usize, insert: &str) -> Edit {
    Edit::new("/notes", "splice").with("index", index).with("delete", delete).with("insert", insert)
}

fn step(id: &str, op: &str) -> Edit {
    Edit::new(format!("/steps/{id}"), op)
}

fn insert_step(id: &str) -> Edit {
    Edit::new("/steps", "insert").with("id", id).with("value", json!({ "what": id }))
}

fn nothing() -> Value {
    json!({})
}

fn steps() -> Value {
    json!({ "steps": [
        { "id": "wash", "value": { "what": "wash" } }, { "id": "mill", "value": { "what": "mill" } }, { "id": "press", "value": { "what": "press" } },
    ] })
}

fn notes() -> Value {
    json!({ "notes": "dry and bright" })
}

fn pressings() -> Value {
    json!({ "crews": { "east": {} }, "pressings": { "p1": { "litres": 40 } } })
}

const LIST: &str = "[state.steps]\nkind = \"list\"\n[state.steps.each.what]\nkind = \"register\"";
const TEXT: &str = "[state.notes]\nkind = \"text\"";
const MAP: &str = "[state.crews]\nkind = \"map\"\n[state.crews.each.name]\nkind = \
    \"register\"\n[state.pressings]\nkind = \"map\"\n[state.pressings.each.litres]\nkind = \
    \"register\"\n[state.pressings.each.crew]\nkind = \"register\"\nrefers = { to = \"/crews\" }";
const REVIVE: &str = "[state.pressings]\nkind = \"map\"\ndrop-conflict = \
    \"revive\"\n[state.pressings.each.litres]\nkind = \"register\"";
const CASCADE: &str = "[state.crews]\nkind = \"map\"\n[state.crews.each.name]\nkind = \
    \"register\"\n[state.pressings]\nkind = \"map\"\n[state.pressings.each.crew]\nkind = \
    \"register\"\nrefers = { to = \"/crews\", on-drop = \"cascade\" }";
const CLEAR: &str = "[state.crews]\nkind = \"map\"\n[state.crews.each.name]\nkind = \
    \"register\"\n[state.pressings]\nkind = \"map\"\n[state.pressings.each.crew]\nkind = \
    \"register\"\nrefers = { to = \"/crews\", on-drop = \"clear\" }";

fn referring() -> Value {
    json!({ "crews": { "east": {} }, "pressings": { "p1": {} } })
}

pub(crate) const EXAMPLES: &[Example] = &[
    Example {
        rule: "register, `merge = \"last\"`",
        state: "[state.blend]\nkind = \"register\"",
        opening: nothing,
        first: || set("dry"),
        second: || set("sweet"),
        at: "/blend",
    },
    Example {
        rule: "register, `merge = \"first\"`",
        state: "[state.blend]\nkind = \"register\"\nmerge = \"first\"",
        opening: nothing,
        first: || set("dry"),
        second: || set("sweet"),
        at: "/blend",
    },
    Example {
        rule: "register, `merge = \"max\"`",
        state: "[state.blend]\nkind = \"register\"\nmerge = \"max\"",
        opening: nothing,
        first: || set(12),
        second: || set(9),
        at: "/blend",
    },
    Example {
        rule: "register, `merge = \"max\"`, `member = \"amount\"`",
        state: "[state.blend]\nkind = \"register\"\nmerge = \"max\"\nmember = \"amount\"",
        opening: nothing,
        first: || set(json!({ "amount": 12 })),
        second: || set(json!({ "amount": 15 })),
        at: "/blend",
    },
    Example {
        rule: "register, `merge = \"min\"`",
        state: "[state.blend]\nkind = \"register\"\nmerge = \"min\"",
        opening: nothing,
        first: || set(12),
        second: || set(9),
        at: "/blend",
    },
    Example {
        rule: "register, `merge = \"all\"`",
        state: "[state.blend]\nkind = \"register\"\nmerge = \"all\"",
        opening: nothing,
        first: || set("dry"),
        second: || set("sweet"),
        at: "/blend",
    },
    Example {
        rule: "register, `merge = \"unchanged\"`",
        state: "[state.blend]\nkind = \"register\"\nmerge = \"unchanged\"",
        opening: nothing,
        first: || set(3.4),
        second: || set(3.6),
        at: "/blend",
    },
    Example {
        rule: "register, `clear` against `set`",
        state: "[state.blend]\nkind = \"register\"\ninitial = \"mellow\"",
        opening: nothing,
        first: || set("dry"),
        second: || Edit::new("/blend", "clear"),
        at: "/blend",
    },
    Example {
        rule: "counter",
        state: "[state.crates]\nkind = \"counter\"",
        opening: nothing,
        first: || Edit::new("/crates", "add").with("by", 1),
        second: || Edit::new("/crates", "add").with("by", 2),
        at: "/crates",
    },
    Example {
        rule: "counter, `max = 2`",
        state: "[state.crates]\nkind = \"counter\"\nmax = 2",
        opening: nothing,
        first: || Edit::new("/crates", "add").with("by", 1),
        second: || Edit::new("/crates", "add").with("by", 2),
        at: "/crates",
    },
    Example {
        rule: "set, include against exclude",
        state: "[state.rows]\nkind = \"set\"",
        opening: || json!({ "rows": ["north"] }),
        first: || Edit::new("/rows", "include").with("value", "north"),
        second: || Edit::new("/rows", "exclude").with("value", "north"),
        at: "/rows",
    },
    Example {
        rule: "set, exclude against include",
        state: "[state.rows]\nkind = \"set\"",
        opening: || json!({ "rows": ["north"] }),
        first: || Edit::new("/rows", "exclude").with("value", "north"),
        second: || Edit::new("/rows", "include").with("value", "north"),
        at: "/rows",
    },
    Example {
        rule: "map, two `put` of one id",
        state: MAP,
        opening: pressings,
        first: || {
            Edit::new("/pressings", "put").with("id", "p2").with("value", json!({ "litres": 10 }))
        },
        second: || {
            Edit::new("/pressings", "put").with("id", "p2").with("value", json!({ "litres": 20 }))
        },
        at: "/pressings",
    },
    Example {
        rule: "map, `drop-conflict = \"drop\"`, edit against drop",
        state: MAP,
        opening: pressings,
        first: || Edit::new("/pressings/p1", "drop"),
        second: || Edit::new("/pressings/p1/litres", "set").with("value", 50),
        at: "/pressings",
    },
    Example {
        rule: "map, `drop-conflict = \"drop\"`, drop against edit",
        state: MAP,
        opening: pressings,
        first: || Edit::new("/pressings/p1/litres", "set").with("value", 50),
        second: || Edit::new("/pressings/p1", "drop"),
        at: "/pressings",
    },
    Example {
        rule: "map, `drop-conflict = \"revive\"`, edit against drop",
        state: REVIVE,
        opening: || json!({ "pressings": { "p1": { "litres": 40 } } }),
        first: || Edit::new("/pressings/p1", "drop"),
        second: || Edit::new("/pressings/p1/litres", "set").with("value", 50),
        at: "/pressings",
    },
    Example {
        rule: "map, `drop-conflict = \"revive\"`, drop against edit",
        state: REVIVE,
        opening: || json!({ "pressings": { "p1": { "litres": 40 } } }),
        first: || Edit::new("/pressings/p1/litres", "set").with("value", 50),
        second: || Edit::new("/pressings/p1", "drop"),
        at: "/pressings",
    },
    Example {
        rule: "reference, `on-drop = \"refuse\"`",
        state: MAP,
        opening: pressings,
        first: || Edit::new("/pressings/p1/crew", "set").with("value", "east"),
        second: || Edit::new("/crews/east", "drop"),
        at: "/crews",
    },
    Example {
        rule: "reference, `on-drop = \"cascade\"`",
        state: CASCADE,
        opening: referring,
        first: || Edit::new("/pressings/p1/crew", "set").with("value", "east"),
        second: || Edit::new("/crews/east", "drop"),
        at: "/pressings",
    },
    Example {
        rule: "reference, `on-drop = \"clear\"`",
        state: CLEAR,
        opening: referring,
        first: || Edit::new("/pressings/p1/crew", "set").with("value", "east"),
        second: || Edit::new("/crews/east", "drop"),
        at: "/pressings",
    },
    Example {
        rule: "reference, to what is dropped meanwhile",
        state: CLEAR,
        opening: referring,
        first: || Edit::new("/crews/east", "drop"),
        second: || Edit::new("/pressings/p1/crew", "set").with("value", "east"),
        at: "/pressings",
    },
    Example {
        rule: "list, two inserts at one place",
        state: LIST,
        opening: steps,
        first: || insert_step("rest").with("after", "mill"),
        second: || insert_step("weigh").with("after", "mill"),
        at: "/steps",
    },
    Example {
        rule: "list, two moves of one element",
        state: LIST,
        opening: steps,
        first: || step("press", "move").with("after", Value::Null),
        second: || step("press", "move").with("after", "wash"),
        at: "/steps",
    },
    Example {
        rule: "list, a move after what another moves",
        state: LIST,
        opening: steps,
        first: || step("wash", "move").with("before", Value::Null),
        second: || step("mill", "move").with("after", "wash"),
        at: "/steps",
    },
    Example {
        rule: "list, edit against remove",
        state: LIST,
        opening: steps,
        first: || step("mill", "remove"),
        second: || Edit::new("/steps/mill/what", "set").with("value", "mill twice"),
        at: "/steps",
    },
    Example {
        rule: "list, an insert after what another removes",
        state: LIST,
        opening: steps,
        first: || step("mill", "remove"),
        second: || insert_step("rest").with("after", "mill"),
        at: "/steps",
    },
    Example {
        rule: "list, `append-only = true`, `keep = 2`",
        state: "[state.remarks]\nkind = \"list\"\nappend-only = true\nkeep = 2",
        opening: || json!({ "remarks": [{ "id": "a", "value": "early" }] }),
        first: || Edit::new("/remarks", "insert").with("id", "b").with("value", "ripe"),
        second: || Edit::new("/remarks", "insert").with("id", "c").with("value", "wasps"),
        at: "/remarks",
    },
    Example {
        rule: "text, two inserts at one place",
        state: TEXT,
        opening: notes,
        first: || splice(3, 0, ", clean"),
        second: || splice(3, 0, ", light"),
        at: "/notes",
    },
    Example {
        rule: "text, an insert before what another changes",
        state: TEXT,
        opening: notes,
        first: || splice(0, 0, "Very "),
        second: || splice(8, 6, "sharp"),
        at: "/notes",
    },
    Example {
        rule: "text, deletes that overlap",
        state: TEXT,
        opening: notes,
        first: || splice(3, 4, ""),
        second: || splice(0, 8, ""),
        at: "/notes",
    },
    Example {
        rule: "text, an insert inside what another deletes",
        state: TEXT,
        opening: notes,
        first: || splice(3, 11, ""),
        second: || splice(7, 0, " very"),
        at: "/notes",
    },
    Example {
        rule: "seats, two sit on one",
        state: "[state.seats]\nkind = \"seats\"\nnames = [\"east\", \"west\"]",
        opening: nothing,
        first: || Edit::new("/seats", "sit").with("seat", "east"),
        second: || Edit::new("/seats", "sit").with("seat", "east"),
        at: "/seats/by",
    },
    Example {
        rule: "seats, two take what is free",
        state: "[state.seats]\nkind = \"seats\"\nnames = [\"east\", \"west\"]",
        opening: nothing,
        first: || Edit::new("/seats", "sit"),
        second: || Edit::new("/seats", "sit"),
        at: "/seats/by",
    },
    Example {
        rule: "turn, `moves = 1`, two move",
        state: TURN,
        opening: seated,
        first: || Edit::new("/apples", "add").with("by", -1),
        second: || Edit::new("/apples", "add").with("by", -2),
        at: "/turn",
    },
    Example {
        rule: "turn, `moves = 1`, out of turn",
        state: TURN,
        opening: seated_otherwise,
        first: || Edit::new("/apples", "add").with("by", -1),
        second: || Edit::new("/turn", "advance"),
        at: "/turn",
    },
    Example {
        rule: "deadline, two set it",
        state: DEADLINE,
        opening: nothing,
        first: || Edit::new("/closing", "set").with("in", "10m"),
        second: || Edit::new("/closing", "set").with("in", "5m"),
        at: "/closing",
    },
    Example {
        rule: "deadline, one sets it, one extends it",
        state: DEADLINE,
        opening: nothing,
        first: || Edit::new("/closing", "set").with("in", "10m"),
        second: || Edit::new("/closing", "extend").with("by", "10s"),
        at: "/closing",
    },
    Example {
        rule: "deadline, one takes it away, one extends it",
        state: DEADLINE,
        opening: due,
        first: || Edit::new("/closing", "cancel"),
        second: || Edit::new("/closing", "extend").with("by", "10s"),
        at: "/closing",
    },
    Example {
        rule: "clock, one starts it, one moves it",
        state: "[state.playback]\nkind = \"clock\"",
        opening: nothing,
        first: || Edit::new("/playback", "start"),
        second: || Edit::new("/playback", "seek").with("to", "90s"),
        at: "/playback/position",
    },
    Example {
        rule: "random, two roll",
        state: "[state.bag]\nkind = \"random\"",
        opening: nothing,
        first: || Edit::new("/bag", "roll").with("sides", 6),
        second: || Edit::new("/bag", "roll").with("sides", 6),
        at: "/bag/draws",
    },
    Example {
        rule: "total, `sum`",
        state: "[state.baskets]\nkind = \"map\"\n[state.baskets.each.apples]\nkind = \
            \"counter\"\n[state.left]\nkind = \"total\"\nfrom = \"/baskets\"\nsum = \"apples\"",
        opening: || json!({ "baskets": { "gale": { "apples": 3 } } }),
        first: || {
            Edit::new("/baskets", "put").with("id", "path").with("value", json!({ "apples": 4 }))
        },
        second: || Edit::new("/baskets/gale/apples", "add").with("by", -2),
        at: "/left",
    },
    Example {
        rule: "ballot, two cast",
        state: BALLOT,
        opening: nothing,
        first: || Edit::new("/blend", "cast").with("choices", json!(["dry"])),
        second: || Edit::new("/blend", "cast").with("choices", json!(["sweet"])),
        at: "/blend-ballots",
    },
    Example {
        rule: "ballot, a choice that is none",
        state: BALLOT,
        opening: nothing,
        first: || Edit::new("/blend", "cast").with("choices", json!(["dry"])),
        second: || Edit::new("/blend", "cast").with("choices", json!(["swet"])),
        at: "/blend-ballots",
    },
];

const TURN: &str = "[state.apples]\nkind = \"counter\"\n[state.seats]\nkind = \"seats\"\nnames = \
    [\"east\", \"west\"]\n[state.turn]\nkind = \"turn\"\nseats = \"/seats\"\ngoverns = \
    [\"/apples\"]\nmoves = 1";
const BALLOT: &str = "[state.blend]\nkind = \"ballot\"\nchoices = [\"dry\", \"mellow\", \"sweet\"]";

const DEADLINE: &str = "[state.closing]\nkind = \"deadline\"";

fn due() -> Value {
    json!({ "closing": { "due": 1_800_000_060_000_u64, "fired": null } })
}

fn seated() -> Value {
    json!({ "apples": 9, "seats": { "by": { "east": "tobin", "west": "oda" } } })
}

fn seated_otherwise() -> Value {
    json!({ "apples": 9, "seats": { "by": { "east": "tobin", "west": "wren" } } })
}

/// Each example twice: the replica's user is first or second; and once with what the first did seen
/// by the second.
pub(crate) fn merging() -> Vec<Value> {
    EXAMPLES
        .iter()
        .flat_map(|example| {
            [
                of(example, "concurrent, own first", |scenario, first, second| {
                    scenario.me(vec![first]).arrive();
                    scenario.they(0, vec![second]);
                }),
                of(example, "concurrent, own second", |scenario, first, second| {
                    scenario.me(vec![second]).expect();
                    scenario.they(0, vec![first]);
                    scenario.deliver();
                    scenario.expect().arrive();
                }),
                of(example, "one after the other", |scenario, first, second| {
                    scenario.they(0, vec![first]);
                    scenario.settle().me(vec![second]);
                }),
            ]
        })
        .collect()
}

fn of(example: &Example, order: &str, play: impl Fn(&mut Scenario, Edit, Edit)) -> Value {
    let opening = (example.opening)();
    let mut scenario = Scenario::open(example.state, Some(&opening));
    play(&mut scenario, (example.first)(), (example.second)());
    scenario.settle().expect().case(&format!("{}: {order}", example.rule.replace('`', "")))
}

/// Stories of texts: drafts, what waits, what is made anew, anchors.
pub(crate) fn texts() -> Vec<Value> {
    let open = |most: &str, text: &str| {
        Scenario::open(&format!("{TEXT}\n{most}"), Some(&json!({ "notes": text })))
    };
    let mut cases = Vec::new();

    let mut pipelined = open("", "dry");
    pipelined
        .me(vec![splice(3, 0, " a")])
        .me(vec![splice(5, 0, "nd")])
        .me(vec![splice(0, 1, "D")])
        .expect();
    cases.push(pipelined.settle().expect().case("typed on top of one's own before any answer"));

    let mut overtaken = open("", "dry");
    overtaken.me(vec![splice(3, 0, " and")]);
    overtaken.they(0, vec![splice(0, 0, "Very ")]);
    overtaken.deliver();
    overtaken.expect().me(vec![splice(12, 0, " bright")]).me(vec![splice(0, 0, "1. ")]).expect();
    cases.push(
        overtaken.settle().expect().case(
            "what is typed after somebody else's change waits for the answer, and follows it",
        ),
    );

    let mut same_place = open("", "ab");
    same_place.me(vec![splice(1, 0, "XY")]);
    same_place.they(0, vec![splice(1, 0, "12")]);
    same_place.deliver();
    same_place.expect().me(vec![splice(4, 0, "z")]).me(vec![splice(3, 1, "")]).expect();
    cases.push(
        same_place.settle().expect().case("typed inside one's own where somebody else typed too"),
    );

    let mut undone = open("", "dry");
    undone.they(0, vec![splice(0, 0, "Very ")]);
    undone.they(1, vec![splice(8, 0, " hills")]);
    undone.deliver();
    undone.me(vec![splice(5, 0, "oh so ")]);
    undone.they(2, vec![Edit::new("", "undo")]);
    undone.they(3, vec![Edit::new("", "undo")]);
    undone.deliver();
    undone.expect().me(vec![Edit::new("", "undo")]).expect();
    cases.push(
        undone
            .settle()
            .expect()
            .case("both undo theirs while one's own is on its way, and it goes"),
    );

    let mut at_the_end = open("", "ab");
    at_the_end.me(vec![splice(2, 0, "XY")]);
    at_the_end.they(0, vec![splice(2, 0, "12")]);
    at_the_end.deliver();
    at_the_end.expect().me(vec![splice(4, 0, "z")]).expect();
    cases.push(at_the_end.settle().expect().case("both type at the end"));

    let mut refused = open("most = 6", "dry");
    refused
        .me(vec![splice(3, 0, " and more")])
        .me(vec![splice(12, 0, "!")])
        .me(vec![splice(0, 1, "D")])
        .expect();
    refused.arrive();
    refused.deliver();
    refused.expect();
    cases.push(
        refused
            .settle()
            .expect()
            .case("made on top of a refused splice: follows-refused, and made anew"),
    );

    let mut moot = open("most = 6", "dry");
    moot.me(vec![splice(3, 0, " and more")]).me(vec![splice(4, 3, "")]);
    cases.push(
        moot.settle()
            .expect()
            .case("what was to be deleted was itself refused: nothing is sent anew"),
    );

    let mut moot_before = open("most = 6", "dry");
    moot_before
        .me(vec![splice(3, 0, " and more")])
        .me(vec![splice(4, 3, "")])
        .me(vec![splice(9, 0, "!")])
        .expect();
    cases.push(
        moot_before
            .settle()
            .expect()
            .case("what comes after a moot proposal is still made anew where it belongs"),
    );

    let mut several = open("", "dry and bright");
    several.me(vec![splice(0, 3, "Sharp"), splice(5, 4, ","), splice(6, 0, " very")]).expect();
    several.they(0, vec![splice(7, 0, " so"), splice(0, 0, "> ")]);
    several.deliver();
    several.expect();
    cases.push(several.settle().expect().case("several splices in one proposal"));

    let mut emoji = open("", "\u{1f34e}\u{1f34f} e\u{301} שלום");
    emoji.me(vec![splice(2, 1, "|")]).expect();
    emoji.they(0, vec![splice(4, 2, "\u{1f347}")]);
    cases.push(emoji.settle().expect().case("positions count scalar values"));

    let mut anchors = open("", "dry and bright");
    anchors
        .anchor("caret", "/notes", 3, true)
        .anchor("remark", "/notes", 8, false)
        .anchor("gone", "/notes", 4, false)
        .expect();
    anchors.me(vec![splice(3, 0, ",")]).expect();
    anchors.they(0, vec![splice(0, 0, "So "), splice(7, 4, "")]);
    anchors.settle().expect();
    anchors.they(anchors.sequencer.seq(), vec![splice(3, 0, "X")]);
    cases.push(
        anchors
            .settle()
            .expect()
            .case("anchors stay at their characters, and say when those are gone"),
    );

    let state =
        format!("{TEXT}\n[state.pages]\nkind = \"map\"\n[state.pages.each.notes]\nkind = \"text\"");
    let mut inside = Scenario::open(&state, None);
    let page = |index: usize, insert: &str| {
        Edit::new("/pages/p/notes", "splice").with("index", index).with("insert", insert)
    };
    inside.me(vec![
        Edit::new("/pages", "put").with("id", "p").with("value", json!({ "notes": "dry" })),
    ]);
    inside.me(vec![page(3, "!")]).expect();
    inside.settle().expect();
    inside.me(vec![page(0, "so ")]);
    inside.they(2, vec![Edit::new("/pages/p", "drop")]);
    cases.push(inside.settle().expect().case(
        "the text of a record that is put before any answer, and dropped under an own splice",
    ));

    let mut away = open("", "dry");
    away.me(vec![splice(3, 0, " and")]).arrive();
    away.me(vec![splice(7, 0, " bright")]);
    away.they(0, vec![splice(0, 0, "Very ")]);
    away.come_back(false).expect();
    cases.push(away.settle().expect().case("back with what was missed, one's own among it"));

    let mut snapshot = open("", "dry");
    snapshot.me(vec![splice(3, 0, " and")]).arrive();
    snapshot.me(vec![splice(7, 0, " bright")]);
    snapshot.they(0, vec![splice(0, 0, "Very ")]);
    snapshot.come_back(true).expect();
    cases.push(
        snapshot.settle().expect().case("back with a snapshot that has one of one's own splices"),
    );

    let mut on_top = open("most = 6", "dry");
    on_top.me(vec![splice(3, 0, " and more")]).me(vec![splice(12, 0, "!")]).arrive();
    on_top.deliver();
    on_top.come_back(false).expect();
    cases.push(
        on_top
            .settle()
            .expect()
            .case("back after a refusal: what was made on top of it is made anew"),
    );

    let mut gone = Scenario::open(&state, Some(&json!({ "pages": { "p": { "notes": "dry" } } })));
    gone.anchor("remark", "/pages/p/notes", 2, true).anchor("other", "/notes", 0, false).expect();
    gone.they(0, vec![Edit::new("/pages/p", "drop")]);
    cases.push(gone.settle().expect().case("an anchor whose text goes with its record says so"));

    let mut asked = open("", "dry");
    asked.they(0, vec![splice(3, 0, ".")]);
    cases.push(asked.settle().ask_for_digest().expect().case("asked for its digest"));
    cases
}

/// Random sessions of a text and a list, the same at each run.
pub(crate) fn random() -> Vec<Value> {
    (1..=16).map(|seed| random_case(seed, &mut Random(seed))).collect()
}

fn random_case(seed: u64, random: &mut Random) -> Value {
    let state = format!("{TEXT}\nmost = 24\n{LIST}");
    let mut opening = steps();
    opening["notes"] = "dry as oak".into();
    let mut scenario = Scenario::open(&state, Some(&opening));
    let mut seen = 0;
    let mut made = 0;
    for _ in 0..30 {
        match random.below(10) {
            0..=3 => {
                let view = scenario.replica.view().unwrap();
                let edits = vec![any_edit(random, &view, &mut made, "m")];
                scenario.me(edits).expect();
            }
            4 | 5 => {
                seen = (seen + random.below(4)).min(scenario.sequencer.seq());
                let edit = any_edit(random, &scenario.sequencer.plain(), &mut made, "t");
                scenario.they(seen, vec![edit]);
            }
            6 | 7 => drop(scenario.arrive()),
            _ => {
                if scenario.deliver() {
                    scenario.expect();
                }
            }
        }
    }
    scenario.settle().expect().case(&format!("random session {seed}"))
}

fn any_edit(random: &mut Random, view: &Value, made: &mut u64, whose: &str) -> Edit {
    let list = view["steps"].as_array().unwrap();
    let any_id = |random: &mut Random| list[random.index(list.len())]["id"].clone();
    match random.below(7) {
        0 if list.len() > 1 => step(any_id(random).as_str().unwrap(), "remove"),
        1 if list.len() > 1 => {
            let (which, after) = (any_id(random), any_id(random));
            let after = if which == after { Value::Null } else { after };
            step(which.as_str().unwrap(), "move").with("after", after)
        }
        2 => {
            *made += 1;
            insert_step(&format!("{whose}{made}")).with("index", random.index(list.len() + 1))
        }
        _ => {
            let len = view["notes"].as_str().unwrap().chars().count();
            let index = random.index(len + 1);
            let delete =
                if random.below(3) == 0 { random.index((len - index).min(5) + 1) } else { 0 };
            let insert = if delete > 0 && random.below(2) == 0 {
                ""
            } else {
                ["a", "bc", "\u{1f34e}", "XYZ"][random.index(4)]
            };
            splice(index, delete, insert)
        }
    }
}

/// A small generator (xorshift64*), so that the cases do not change with a library.
struct Random(u64);

impl Random {
    fn below(&mut self, end: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) % end
    }

    fn index(&mut self, end: usize) -> usize {
        usize::try_from(self.below(end as u64)).unwrap()
    }
}
