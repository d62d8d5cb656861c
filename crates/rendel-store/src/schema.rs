//! The tables, as `migrations/` makes them.

diesel::table! {
    charters (name, version) {
        name -> Text,
        version -> Integer,
        title -> Text,
        source -> Text,
        published -> Timestamptz,
    }
}

diesel::table! {
    sessions (ord) {
        ord -> BigInt,
        id -> Text,
        charter -> Text,
        version -> Integer,
        status -> Text,
        opening -> Nullable<Text>,
        epoch -> BigInt,
        opened -> Timestamptz,
        kept_from -> BigInt,
    }
}

diesel::table! {
    epochs (session, epoch) {
        session -> BigInt,
        epoch -> BigInt,
        begins -> BigInt,
    }
}

diesel::table! {
    journal (session, seq) {
        session -> BigInt,
        seq -> BigInt,
        body -> Text,
        met -> Bool,
    }
}

diesel::table! {
    refusals (session, client, n) {
        session -> BigInt,
        client -> Uuid,
        n -> BigInt,
        at_seq -> BigInt,
        problem -> Text,
    }
}

diesel::table! {
    snapshots (session, seq) {
        session -> BigInt,
        seq -> BigInt,
        body -> Text,
    }
}

diesel::allow_tables_to_appear_in_same_query!(charters, sessions);
