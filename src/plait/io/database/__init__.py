"""PostgreSQL, MySQL, MariaDB and other servers."""
