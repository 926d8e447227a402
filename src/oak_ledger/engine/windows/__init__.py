"""Windows: what they need (`inputs`), computing those over rows beforehand (`prepass`), one window (`evaluate`), aggregates over frames (`frames`)."""
