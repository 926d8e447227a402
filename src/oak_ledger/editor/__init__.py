"""Help in an editor: what the language server says, over definitions and reports as they are typed.

- `texts` finds where in a file a value is written, and back, in every kind of text that TOML has. `files` holds what is
  open, as the editor has it, unsaved; what a keystroke does not reach is kept from the state before.
- `offers`, `meanings`, `ways` and `changes` answer: what may be typed here, what is this, where is it, what can be done
  about it. Each is a function of a file and a place in it, of plain values; what they know comes from the rooms below.
- `server` alone speaks the protocol (`pygls`); only a finding that needs rows reads them, beside, after a save.
"""
