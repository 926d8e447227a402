"""What can be said of a source beside its rows: before and after an edit, a figure taken apart, a formula tried and outlined."""
