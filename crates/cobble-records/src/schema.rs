//! The tables as Diesel knows them; the migrations are what makes them.

diesel::table! {
    connections (name) {
        name -> Text,
        definition -> Jsonb,
        sealed_secret -> Nullable<Bytea>,
        created_at -> Timestamptz,
        sealed_credentials -> Nullable<Bytea>,
    }
}

diesel::table! {
    catalogs (name) {
        name -> Text,
        connection -> Text,
        created_at -> Timestamptz,
        definition -> Jsonb,
    }
}

diesel::table! {
    discoveries (id) {
        id -> BigInt,
        catalog -> Text,
        path -> Text,
        asked -> Bool,
        changes -> Jsonb,
        looked_at -> Timestamptz,
    }
}

diesel::table! {
    runs (id) {
        id -> Text,
        statement -> Text,
        state -> Text,
        error -> Nullable<Jsonb>,
        plan -> Nullable<Jsonb>,
        rows_out -> BigInt,
        rows_read -> BigInt,
        bytes_read -> BigInt,
        seconds -> Double,
        started_at -> Timestamptz,
        finished_at -> Nullable<Timestamptz>,
        user_name -> Nullable<Text>,
        user_id -> Nullable<BigInt>,
    }
}

diesel::table! {
    users (name) {
        name -> Text,
        token_digest -> Bytea,
        created_at -> Timestamptz,
        id -> BigInt,
        role -> Text,
        expires_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    table_statistics (catalog, schema_name, table_name, owner) {
        catalog -> Text,
        schema_name -> Text,
        table_name -> Text,
        statistics -> Jsonb,
        collected_at -> Timestamptz,
        owner -> Text,
    }
}

diesel::table! {
    views (name) {
        name -> Text,
        definition -> Jsonb,
        created_at -> Timestamptz,
    }
}

diesel::table! {
    functions (name) {
        name -> Text,
        definition -> Jsonb,
        created_at -> Timestamptz,
    }
}

diesel::table! {
    lake_schemas (lake, name) {
        lake -> Text,
        name -> Text,
        properties -> Jsonb,
    }
}

diesel::table! {
    lake_pointers (lake, schema_name, name, is_view) {
        lake -> Text,
        schema_name -> Text,
        name -> Text,
        is_view -> Bool,
        metadata -> Text,
        bytes -> BigInt,
        location -> Text,
        changed_at -> Timestamptz,
    }
}
