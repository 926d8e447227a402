"""The bridge between NumPy and Arrow: arrays and masks, decimals, text, order. Knows types, no formulas.

- Whole numbers that are packed and sorted do most of it: group, order and row number in one 64-bit number, where they
  fit, sort by value in a tenth of the time of a sort of places. Windows, distinct counts, medians of whole numbers
  and very many groups use that (`columnar/ordering.py`). Texts that hardly repeat are numbered by a hash of their
  bytes, packed with the row and sorted, and compared where hashes meet (`columnar/texts.py`); texts that repeat by
  Arrow's dictionary.

- Texts stay codes and a dictionary as long as a step can be computed once per distinct value, or per combination of a
  few; a Parquet column comes as codes where its values take up less than four bytes each. Days that are close
  together are their own codes.
"""
