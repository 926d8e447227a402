"""Columns of incoming data: how an origin is read that is seen for the first time, and the fields that columns are proposed as."""
