"""Questions to the records, in as many queries for many rungs as for one."""
