"""Statements of PostgreSQL's clients, answered over its protocol: rows and measures of sources, read only.

- A thread for each connection, blocking sockets: a connection is one conversation. What is asked takes its room and its time with all that is asked
  over HTTP (`limits.py`).

- A statement over a source becomes a question of it (`statement.py`). Its expressions are written as formulas and checked as such, so that they mean here
  what they mean everywhere; a text compared with another type is read as that type, as PostgreSQL does. A key of the groups, used beside aggregates,
  is its one value in the group. What is not answered is refused with its reason: nothing is left out of a statement.

- What clients ask of the catalogue (`pg_catalog`, `information_schema`) is any SQL. A general engine in memory answers it over tables with what the
  person may see (`catalog.py`, `system.sql`); it reaches no file and no network, and only functions that are known are called.

- Passwords are tokens. They come as they are, so that only loopback and encrypted connections are taken.
"""
