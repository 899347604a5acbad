"""UDF: read only."""
