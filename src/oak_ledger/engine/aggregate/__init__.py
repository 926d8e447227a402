"""Groups: dense numbers for them (`groups`), what is kept of each (`hash_aggregate`), distinct values by group (`distinct`)."""
