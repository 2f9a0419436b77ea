"""MariaDB: models, migrations, bulk load and queries. The only place that speaks SQL."""
