"""Checking calls: which signature fits, what each argument becomes, aggregates, and windows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import permutations

from oak_ledger.columnar.arrays import Mask
from oak_ledger.formula import checked as c
from oak_ledger.formula import nodes as n
from oak_ledger.formula.builder import Piece, Repair, a_type, constants, run_constant
from oak_ledger.formula.frames import BadFrame, frame_spec
from oak_ledger.formula.unknown import UnknownNames
from oak_ledger.functions import LIBRARY
from oak_ledger.functions.registry import CallSignature, ComputeError, Function
from oak_ledger.functions.windows import IGNORING_NULLS
from oak_ledger.types import INTEGER, NULL, NUMBER, NUMERIC, TEXT, Grain, Type

# Other spellings of one function.
BEFORE = "BEFORE"
_WHOLE_GROUPS = (
    "MEDIAN",
    "MODE",
    "MAX_BY",
    "MIN_BY",
    "SUM_AT_LAST",
    "SUM_AT_FIRST",
)  # before OVER only of whole partitions
_OF_SEVERAL = {"MAX": "GREATEST({0})", "MIN": "LEAST({0})", "SUM": "{1}"}
"""What is meant by an aggregate of several values of one row."""
MOST_TURNED = 4  # arguments that are looked at in another order
ALIASES = {"CEIL": "CEILING", "LENGTH": "CHAR_LENGTH", "CHARACTER_LENGTH": "CHAR_LENGTH"}


class CallChecker(UnknownNames):
    """What is called, with what."""

    def call(self, node: n.Call) -> Piece:
        """A call of any kind."""
        entry = LIBRARY.entries.get(ALIASES.get(node.name, node.name))
        if entry is None and node.name != BEFORE:
            self.unknown_function(node)
            return None
        pieces = [self.piece(arg) for arg in node.args]
        where = self.piece(node.where) if node.where is not None else None
        at_name = n.ErrorNode(node.start, node.name_end)
        if entry is None:
            return self.before(node, pieces)
        if bool(node.within) != entry.ordered:
            wanted = "needs WITHIN GROUP (ORDER BY …)" if entry.ordered else "takes no WITHIN GROUP"
            self.report(
                "within-group", f"{entry.name} {wanted}.", at_name, f"It is written {' or '.join(entry.written)}."
            )
            return None
        known = [piece for piece in pieces if piece is not None]
        if len(known) < len(pieces) or (node.where is not None and where is None):
            return None
        if node.over is not None:
            return self.window_call(node, entry, known, where, node.over)
        if entry.window:
            self.report("over-missing", f"{entry.name} needs a window: OVER (ORDER BY …).", at_name)
            return None
        if not entry.aggregate:
            if node.distinct or node.star or node.where is not None:
                message = f"{entry.name} takes neither DISTINCT, * nor FILTER; those are for aggregates."
                self.report("not-aggregate", message, at_name)
                return None
            return self.function_call(node, entry, known)
        return self.aggregate_call(node, entry, known, where)

    def before(self, node: n.Call, pieces: Sequence[Piece]) -> Piece:
        """A value of the earlier state; which row or group it is taken from follows from its grain."""
        at_name = n.ErrorNode(node.start, node.name_end)
        if len(pieces) != 1 or node.star or node.distinct or node.where is not None or node.over is not None:
            self.report("argument-count", "BEFORE takes one value.", node, "It is written BEFORE(x).")
            return None
        value, key = pieces[0], self.scope.baseline_key()
        if value is None:
            return None
        if key is None:
            message = "BEFORE needs a baseline, the earlier state to compare with, and none is given."
            self.report("no-baseline", message, at_name, "Give one: --baseline FILE, or baseline under [source]; oak export makes the file.")  # fmt: skip
            return None
        if any(isinstance(piece, c.Before) for piece in c.walk(value)):
            self.report("before-nested", "There is one earlier state; BEFORE does not go into BEFORE.", at_name)
            return None
        if value.grain == Grain.CONSTANT:
            return value
        keys = [self.scope.find(name) for name in key] if value.grain == Grain.ROW else []
        knowns = [key for key in keys if key is not None and key.type is not None]
        if value.grain == Grain.ROW and (not knowns or len(knowns) < len(keys)):
            message = "BEFORE of a row's value finds the row by the source's key, and the source names none that works."
            self.report("no-key", message, at_name, 'Write key = ["…"] under [source].')
            return None
        parts = [c.FieldRef(node.start, node.start, known.type or TEXT, known.grain, known.name) for known in knowns]
        return c.Before(node.start, node.end, value.type, value.grain, value, tuple(parts))

    def arguments(
        self, node: n.Call, entry: Function, args: Sequence[c.TypedNode]
    ) -> tuple[list[c.TypedNode], Type] | None:
        """The arguments as the function takes them, and the type of its result."""
        args = [self.fixed(arg) if index in entry.constant_args else arg for index, arg in enumerate(args)]
        fitting = [signature for signature in entry.signatures if signature.fits_count(len(args))]
        usage = " or ".join(entry.written)
        if not fitting:
            message = f"{entry.name} cannot take {len(args)} argument{'s' * (len(args) != 1)}."
            several = (
                [self.text[arg.start : arg.end] for arg in args] if entry.name in _OF_SEVERAL and len(args) > 1 else []
            )
            new = _OF_SEVERAL.get(entry.name, "").format(", ".join(several), " + ".join(several))
            fixed = self.edited(node.start, node.end, new) if several else None
            self.report(
                "argument-count", message, node, f"Did you mean {new}?" if several else f"It is written {usage}.", fixed
            )
            return None
        chosen = next(
            (signature for signature in fitting if all(_takes(signature, i, arg.type) for i, arg in enumerate(args))),
            None,
        )
        if chosen is None:
            self.wrong_argument(node, entry, fitting, args)
            return None
        for index in entry.constant_args:
            if index < len(args) and not isinstance(args[index], c.Constant):
                message = f"{entry.name} needs a fixed {chosen.parameter(index).name} here, not one that varies."
                self.report("constant-wanted", message, args[index])
                return None
        return self.converted(entry, chosen, args)

    def fixed(self, arg: c.TypedNode) -> c.TypedNode:
        """A named constant as its value, where a function needs one that does not vary."""
        known = self.scope.find(arg.name) if isinstance(arg, c.FieldRef) else None
        if known is None or not known.fixed:
            return arg
        return c.Constant(arg.start, arg.end, arg.type, Grain.CONSTANT, known.fixed[0])

    def converted(
        self, entry: Function, chosen: CallSignature, args: Sequence[c.TypedNode]
    ) -> tuple[list[c.TypedNode], Type] | None:
        """The arguments converted, and the type of the result, for a signature that fits."""
        shared: Type | None = None
        if chosen.result == "common":
            shared = self.shared_type(args, entry.name)
            if shared is None:
                return None
        nodes = []
        for index, arg in enumerate(args):
            kinds = chosen.parameter(index).kinds
            if shared is not None:
                nodes.append(self.convert(arg, shared))
            elif arg.type.kind not in kinds or arg.type == NULL:
                nodes.append(self.convert(arg, _widened(arg.type, kinds)))
            else:
                nodes.append(arg)
        types = [arg.type for arg in nodes]
        if entry.result is not None:
            return nodes, entry.result(types, constants(nodes))
        if chosen.result == "same":
            return nodes, types[0]
        return nodes, shared or Type(chosen.result)  # type: ignore[arg-type]

    def wrong_argument(
        self, node: n.Call, entry: Function, fitting: Sequence[CallSignature], args: Sequence[c.TypedNode]
    ) -> None:
        """Note the first argument that does not fit the signature that most of them fit."""

        def fits(signature: CallSignature) -> list[bool]:
            return [_takes(signature, index, arg.type) for index, arg in enumerate(args)]

        chosen = max(fitting, key=lambda one: sum(fits(one)))
        index = fits(chosen).index(False)
        arg, parameter = args[index], chosen.parameter(index)
        wanted = parameter.kind_text.replace("|", " or ")
        kind = _widened(arg.type, parameter.kinds).kind
        message = f"{entry.name} takes {wanted} for {parameter.name}, but {self.shown(arg)} is {a_type(arg.type)}."
        turned = []
        for order in permutations(args) if len(args) <= MOST_TURNED else ():
            if all(_takes(chosen, at, one.type) for at, one in enumerate(order)):
                listed = ", ".join(self.text[node.start : node.end] for node in order)
                new = f"{entry.name}({listed})"
                turned.append(Repair(f"In the other order: {new}.", self.edited(node.start, node.end, new)))
        if len(turned) == 1:
            turned = [turned[0]._replace(sure=True)]
        cast = self.cast_hint(arg, kind)
        offers = [*turned, *([cast] if cast.fixed is not None else [])]
        self.report("wrong-type", message, arg, *(offers[0] if offers else cast), more=offers[1:])

    def function_call(self, node: n.Call, entry: Function, args: list[c.TypedNode]) -> Piece:
        """A function of one row (or one group)."""
        found = self.arguments(node, entry, args)
        if found is None:
            return None
        nodes, result = found
        if entry.constant_args:
            try:  # a fixed argument of no use is reported before any data: run over one row of nulls
                run_constant(entry, nodes, result, None, 1, _forget)
            except ComputeError as unfit:
                self.report("bad-argument", f"{str(unfit).capitalize()}.", self._unfit(entry, nodes, result))
                return None
        return self.apply(node, entry, nodes, result)

    def _unfit(self, entry: Function, args: Sequence[c.TypedNode], result: Type) -> c.TypedNode:
        """Which fixed argument is of no use: the one without which there is no error."""
        fixed = [at for at in sorted(entry.constant_args, reverse=True) if at < len(args)]
        for at in fixed if len(fixed) > 1 else ():
            without = [
                replace(arg, value=None) if at == place and isinstance(arg, c.Constant) else arg
                for place, arg in enumerate(args)
            ]
            try:
                run_constant(entry, without, result, None, 1, _forget)
            except ComputeError:
                continue
            return args[at]
        return args[fixed[-1]]

    def aggregate_call(self, node: n.Call, entry: Function, args: list[c.TypedNode], where: Piece) -> Piece:
        """An aggregate over the rows of a group."""
        if node.star and entry.name != "COUNT":
            self.report("argument-count", f"Only COUNT takes *; {entry.name} needs a value.", node)
            return None
        nodes: list[c.TypedNode] = []
        result = INTEGER
        if not node.star:
            found = self.arguments(node, entry, args)
            if found is None:
                return None
            nodes, result = found
        if where is not None:
            where = self.condition(where, "FILTER")
            if where is None:
                return None
        inner = [*nodes, *([where] if where is not None else [])]
        grouped = next((piece for piece in inner if piece.grain == Grain.GROUP), None)
        if grouped is not None:
            message = f"{self.shown(grouped)} is one value per group already; {entry.name} needs a value per row."
            hint = (
                "Aggregate the row value it is made of."
                if grouped is not where
                else "A filter inside an aggregate chooses rows; compare the aggregate itself: CASE WHEN SUM(x) > 3 THEN … END."
            )
            self.report("aggregate-nested", message, grouped, hint)
            return None
        order = self.order_keys(node.within)
        if order is None:
            return None
        if entry.ordered and entry.name.startswith("PERCENTILE"):
            result = NUMBER if entry.name == "PERCENTILE_CONT" else order[0].key.type
            if not self.percentile_fits(node, entry, nodes, order):
                return None
        return self.at_level(
            c.Aggregate(node.start, node.end, result, Grain.GROUP, entry, tuple(nodes), node.distinct, where, order)
        )

    def at_level(self, aggregate: c.Aggregate) -> Piece:
        """An aggregate of values of a level as one over the level; any other as it is."""
        inside = [
            piece for child in c.children(aggregate) for piece in c.walk(child) if isinstance(piece, c.LevelValue)
        ]
        if not inside:
            return aggregate
        first = inside[0]
        other = next((value for value in inside if self._keys_of(value) != self._keys_of(first)), None)
        if other is not None:
            message = (
                f"{self.shown(first)} and {self.shown(other)} are values of different levels; an aggregate is over one."
            )
            self.report("level-mixed", message, other)
            return None
        names = self._keys_of(first)
        places = {piece: c.level_column(at) for at, piece in enumerate(inside)}
        stray: list[c.TypedNode] = []

        def change(piece: c.TypedNode) -> c.TypedNode | None:
            if isinstance(piece, c.LevelValue):
                return c.ColumnRef(piece.start, piece.end, piece.type, Grain.ROW, places[piece])
            if (
                self.text[piece.start : piece.end] in names
                and piece.grain == Grain.ROW
                and not isinstance(piece, c.OrderKey)
            ):
                at = names.index(self.text[piece.start : piece.end])
                return c.ColumnRef(piece.start, piece.end, piece.type, Grain.ROW, c.level_column(at, key=True))
            if isinstance(piece, c.FieldRef) and piece.grain == Grain.ROW:
                stray.append(piece)
            return None

        over = c.rebuilt(aggregate, change)
        if stray:
            message = f"{self.shown(stray[0])} is a value of each row, and {aggregate.function.name} is over one value for each {', '.join(names)}."
            self.report("level-mixed", message, stray[0], "Aggregate it too: SUM(x) PER (…).")
            return None
        return c.Level(
            aggregate.start,
            aggregate.end,
            aggregate.type,
            Grain.GROUP,
            over,
            tuple(value.inner for value in inside),
            first.keys,
        )

    def _keys_of(self, level: c.LevelValue) -> tuple[str, ...]:
        return tuple(self.text[key.start : key.end] for key in level.keys)

    def percentile_fits(
        self, node: n.Call, entry: Function, args: Sequence[c.TypedNode], order: Sequence[c.OrderKey]
    ) -> bool:
        """A share from 0 to 1 that is fixed, and one key that can be ordered so."""
        share = args[0]
        if not isinstance(share, c.Constant) or share.value is None or not 0 <= share.value <= 1:
            self.report("bad-argument", f"{entry.name} takes a fixed share from 0 to 1.", share)
            return False
        if len(order) != 1 or (entry.name == "PERCENTILE_CONT" and not order[0].key.type.numeric):
            self.report("wrong-type", f"{entry.name} orders by one number.", node.within[0] if node.within else node)
            return False
        return True

    def order_keys(self, keys: Sequence[n.SortKey]) -> tuple[c.OrderKey, ...] | None:
        """The keys of an order; nulls come last going up and first going down, unless said otherwise."""
        made: list[c.OrderKey] = []
        for key in keys:
            piece = self.piece(key.key)
            if piece is None:
                return None
            nulls_first = key.descending if key.nulls_first is None else key.nulls_first
            made.append(c.OrderKey(key.start, key.end, piece.type, piece.grain, piece, key.descending, nulls_first))
        return tuple(made)

    def window_fits(self, node: n.Call, entry: Function, over: n.Over, at_name: n.ErrorNode) -> bool:
        """Whether a function may stand before such a window."""
        if not (entry.window or entry.aggregate):
            self.report("not-window", f"{entry.name} cannot come before OVER.", at_name)
            return False
        if entry.ordered and (over.order or over.frame is not None):
            hint = "Leave out ORDER BY and the frame: OVER (PARTITION BY …)."
            self.report("not-window", f"{entry.name} is computed over whole partitions.", at_name, hint)
            return False
        what = "DISTINCT" if node.distinct else entry.name if entry.name in _WHOLE_GROUPS else ""
        bounded = over.frame is not None and "unbounded" not in (over.frame.low.kind, over.frame.high.kind)
        if what and ((over.order and not bounded) or entry.window):
            hint = (
                "Leave out ORDER BY: OVER (PARTITION BY …); or say a frame: ROWS BETWEEN 6 PRECEDING AND CURRENT ROW."
            )
            self.report("not-window", f"{what} is computed over whole partitions, or over frames that end on both sides.", at_name, hint)  # fmt: skip
            return False
        if not over.order and entry.name in ("LAG", "LEAD", "ROW_NUMBER", "RANK", "PERCENT_RANK", "CUME_DIST"):
            hint = f"Write {entry.name}(…) OVER (ORDER BY …)."
            self.report("order-missing", f"{entry.name} needs an order: which row comes before which?", at_name, hint)
            return False
        return True

    def window_call(self, node: n.Call, entry: Function, args: list[c.TypedNode], where: Piece, over: n.Over) -> Piece:
        """A function or an aggregate over the rows around a row."""
        at_name = n.ErrorNode(node.start, node.name_end)
        if not self.window_fits(node, entry, over, at_name):
            return None
        if node.ignore_nulls:
            ignoring = IGNORING_NULLS.get(entry.name)
            if ignoring is None:
                self.report("not-window", f"{entry.name} takes no IGNORE NULLS; that is for {', '.join(IGNORING_NULLS)}.", at_name)  # fmt: skip
                return None
            entry = ignoring
        partition = [self.piece(part) for part in over.partition]
        order = self.order_keys(node.within or over.order)
        found = None if node.star else self.arguments(node, entry, args)
        held = None if where is None else self.condition(where, "FILTER")
        if order is None or (found is None and not node.star) or (where is not None and held is None):
            return None
        first = found[0][0] if found is not None and found[0] else None
        if entry.name == "NTILE" and isinstance(first, c.Constant) and first.value is not None and first.value < 1:
            self.report("bad-argument", "Fewer than one part.", first)
            return None
        parts = [part for part in partition if part is not None]
        if len(parts) < len(partition):
            return None
        nodes, result = ([], INTEGER) if found is None else found
        if entry.name.startswith("PERCENTILE"):
            result = NUMBER if entry.name == "PERCENTILE_CONT" else order[0].key.type
            if not self.percentile_fits(node, entry, nodes, order):
                return None
        if entry.name.split()[0] in ("LAG", "LEAD") and len(nodes) == 3:
            shared = self.shared_type([nodes[0], nodes[2]], entry.name)
            if shared is None:
                return None
            nodes, result = [self.convert(nodes[0], shared), nodes[1], self.convert(nodes[2], shared)], shared
        try:
            frame = None if over.frame is None else frame_spec(over.frame, order)
        except BadFrame as bad:
            self.report("bad-frame", str(bad), bad.at)
            return None
        keys = [*parts, *(key.key for key in order)]
        inner = [*nodes, *([held] if held is not None else []), *keys]
        grain = Grain.GROUP if any(piece.grain == Grain.GROUP for piece in inner) else Grain.ROW
        if grain == Grain.GROUP:
            plain = [piece for piece in inner if not (piece.grain == Grain.ROW and piece in keys)]
            if self.grain_of(node, plain) is None:
                return None
        return c.Window(
            node.start,
            node.end,
            result,
            grain,
            entry,
            tuple(nodes),
            held,
            tuple(parts),
            order,
            frame or None,
            node.distinct,
        )


def _takes(chosen: CallSignature, index: int, kind: Type) -> bool:
    kinds = chosen.parameter(index).kinds
    return kind == NULL or kind.kind in kinds or _widens(kind, kinds)


def _widens(kind: Type, kinds: frozenset[str]) -> bool:
    order = ("integer", "decimal", "number")
    if kind.kind in order:
        return any(wider in kinds for wider in order[order.index(kind.kind) :])
    return kind.kind == "date" and "timestamp" in kinds


def _widened(kind: Type, kinds: frozenset[str]) -> Type:
    """The type among `kinds` to convert to."""
    for name in ("integer", "decimal", "number", "text", "boolean", "date", "timestamp"):
        if name in kinds and (
            name != "integer" or kind.kind == "null" or kind.kind not in NUMERIC or kind.kind == "integer"
        ):
            return Type(name)
    return TEXT


def _forget(what: str, mask: Mask) -> None:
    """Over no rows nothing can be recorded."""
