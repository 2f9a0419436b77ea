"""Market data in the store: tables, migrations and queries; a database each market."""
