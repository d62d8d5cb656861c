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
        frozen_except -> Text,
        owner -> Nullable<Uuid>,
        secret -> Uuid,
        delete_at -> Nullable<Timestamptz>,
        labels -> Array<Text>,
        free_seats -> Nullable<Integer>,
        sought -> Nullable<Text>,
        sought_no -> Nullable<BigInt>,
        wakes -> Nullable<BigInt>,
    }
}

diesel::table! {
    instances (owner) {
        owner -> Uuid,
        seen -> Timestamptz,
    }
}

diesel::table! {
    announcements (ord) {
        ord -> BigInt,
        id -> Uuid,
        session -> Text,
        charter -> Text,
        kind -> Text,
        event -> Text,
        made -> Timestamptz,
    }
}

diesel::table! {
    webhooks (id) {
        id -> Uuid,
        url -> Text,
        types -> Array<Text>,
        charters -> Array<Text>,
        secret -> Text,
        ordered -> Bool,
        after -> BigInt,
        made -> Timestamptz,
    }
}

diesel::table! {
    deliveries (webhook, announcement) {
        webhook -> Uuid,
        announcement -> BigInt,
        session -> Text,
        status -> Text,
        attempts -> Integer,
        began -> Timestamptz,
        due -> Timestamptz,
        why -> Nullable<Text>,
    }
}

diesel::table! {
    participants (session, sub) {
        session -> BigInt,
        sub -> Text,
        role -> Nullable<Text>,
        name -> Nullable<Text>,
        claims -> Nullable<Text>,
    }
}

diesel::table! {
    calls (key) {
        key -> Text,
        fingerprint -> Text,
        answer -> Text,
        at -> Timestamptz,
    }
}

diesel::table! {
    timelines (ord) {
        ord -> BigInt,
        marks -> Text,
        floor -> BigInt,
        since -> Timestamptz,
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
        ord -> BigInt,
    }
}

diesel::table! {
    snapshots (session, seq) {
        session -> BigInt,
        seq -> BigInt,
        body -> Text,
    }
}

diesel::table! {
    keys (kid) {
        kid -> Text,
        algorithm -> Text,
        material -> Text,
        added -> Timestamptz,
        retired -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    revocations (ord) {
        ord -> BigInt,
        session -> Text,
        sub -> Nullable<Text>,
        jti -> Nullable<Text>,
        issued_until -> Double,
        kept_until -> Timestamptz,
    }
}

diesel::table! {
    removals (session, sub) {
        session -> BigInt,
        sub -> Text,
        until -> Timestamptz,
    }
}

diesel::table! {
    invitations (id) {
        id -> Uuid,
        code -> Text,
        session -> Text,
        role -> Text,
        uses -> Integer,
        used -> Integer,
        until -> Timestamptz,
        made -> Timestamptz,
        withdrawn -> Bool,
    }
}

diesel::table! {
    audit (ord) {
        ord -> BigInt,
        at -> Timestamptz,
        session -> Nullable<Text>,
        by -> Text,
        what -> Text,
        detail -> Text,
    }
}

diesel::allow_tables_to_appear_in_same_query!(charters, sessions);

diesel::allow_tables_to_appear_in_same_query!(announcements, deliveries);
diesel::allow_tables_to_appear_in_same_query!(instances, sessions);
