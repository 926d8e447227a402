"""Commands whose answers are for others: files, pages, views, a service."""
