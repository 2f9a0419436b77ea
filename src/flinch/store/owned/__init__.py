"""What users own in the store: tables, migrations and queries; a database that no load can reach."""
