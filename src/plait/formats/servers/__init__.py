"""Databases that a server keeps: PostgreSQL, MariaDB and MySQL, and what SQLAlchemy speaks to."""
