"""Names that there are not: fields and functions, with what was probably meant."""

from __future__ import annotations

import re
from abc import abstractmethod

from oak_ledger.formula import nodes as n
from oak_ledger.formula.builder import Piece, Repair, TypedTreeBuilder, is_near, mistyped, nearest, nearest_hint
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.formula.spellings import spelling, unit_of
from oak_ledger.functions import LIBRARY


class UnknownNames(TypedTreeBuilder):
    """Reports names that there are not."""

    @abstractmethod
    def piece(self, node: n.Node) -> Piece:
        """The checked piece of a node."""

    def unknown_name(self, node: n.Name) -> None:
        """Note a field that there is not: with names like it, or as the text that it may be."""
        names, quoted = list(self.scope.names()), self.text[node.start] == '"'
        message = f"There is no field {quote_identifier(node.name)}."
        if node.name.upper() == "VALUE" and not quoted:
            hint = "VALUE is the column's own value in a clean or a rule of a field; here, name the field."
            self.report("unknown-field", message, node, hint)
            return
        close = nearest(node.name, names)
        typo = mistyped(node.name, names)
        close = [typo, *(one for one in close if one != typo)] if typo else close
        repairs = [
            Repair(
                f"Did you mean {quote_identifier(one)}?",
                self.edited(node.start, node.end, quote_identifier(one)),
                sure=one == typo,
            )
            for one in close
        ]
        if repairs:
            hint = self.scope.advice(node.name) or (repairs[0].hint if typo else nearest_hint(node.name, names))
            repairs[0] = repairs[0]._replace(hint=hint)
        if quoted:
            text = quote_literal(node.name)
            edited = self.edited(node.start, node.end, text)
            meant = Repair(
                f"If text is meant, it goes in single quotes: {text}.",
                edited,
                sure=not (close and is_near(node.name, close[0])),
            )
            repairs.insert(len(repairs) if close and is_near(node.name, close[0]) else 0, meant)
        if self.scope.find("VALUE") is not None:
            new = self.edited(node.start, node.end, "VALUE")
            repairs.append(Repair("If the field's own value is meant, write VALUE.", new))
        first = repairs[0] if repairs else Repair(self.scope.advice(node.name), None)
        self.report("unknown-field", message, node, *first, more=repairs[1:])

    def unknown_function(self, node: n.Call) -> None:
        """Note a function that there is not: with how it is written here, if it is one of another notation, else with names like it."""
        at_name = n.ErrorNode(node.start, node.name_end)
        message = f"There is no function {node.name}."
        found = (
            None
            if node.distinct or node.star
            else spelling(node.name, [self.text[arg.start : arg.end] for arg in node.args])
        )
        if found is not None:
            end = (
                self.text.index(")", node.args[-1].end if node.args else node.name_end) + 1
                if ")" in self.text[node.start :]
                else node.end
            )
            alone = self.text[: node.start].rstrip()[-1:] in ("", "(", ",") and self.text[end:].lstrip()[:1] in (
                "",
                ")",
                ",",
            )
            whole = found.written if alone or re.fullmatch(r"\w+(\([^()]*\))?", found.written) else f"({found.written})"
            fixed = self.edited(node.start, end, whole) if found.written and "…" not in found.written else None
            note = f" {found.note[:1].upper()}{found.note[1:].rstrip('.')}." if found.note else ""
            hint = (
                f"Write {found.written}." if found.sure else f"Did you mean {found.written}?" if found.written else ""
            )
            self.report("unknown-function", message, at_name, f"{hint}{note}".strip(), fixed, found.sure)
        for arg in node.args:
            if not (isinstance(arg, n.Name) and unit_of(arg.name)):
                self.piece(arg)
        if found is not None:
            return
        typo = mistyped(node.name, LIBRARY.entries)
        names = [typo] if typo else nearest(node.name, LIBRARY.entries)
        fixed = self.edited(node.start, node.name_end, names[0]) if names else None
        hint = f"Did you mean {typo}?" if typo else nearest_hint(node.name, LIBRARY.entries, str)
        self.report("unknown-function", message, at_name, hint, fixed, sure=bool(typo))
