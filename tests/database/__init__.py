"""What Ask Less does on real databases: SQLite, and throw-away servers of PostgreSQL and MariaDB."""
