"""What Nailer remembers, in MariaDB: plain SQL in `queries/`, numbered `migrations/`, one class a family of tables."""
