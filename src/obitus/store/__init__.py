"""Records in SQLite, in plain SQL: schema, migrations, the single writer, and the queries that read."""
