"""What a definition file says: its text in blocks, the models of its keys, the places that name fields, and edits of it.

- Every key says how it names fields. The models of definition and report files mark keys as formulas, names, texts;
  renames, mends and checks find all places from that, and a new key needs no new code.
"""
