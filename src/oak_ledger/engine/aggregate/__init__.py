"""Groups: dense numbers for them (`groups`), what is kept of each (`hash_aggregate`), different values by group (`distinct`)."""
