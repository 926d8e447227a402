"""The bridge between NumPy and Arrow: arrays and masks, decimals, text, order. Knows types, no formulas."""
