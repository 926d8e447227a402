"""Commands that publish, repair and keep: versions, mending, states, the catalogue."""
