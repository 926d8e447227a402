"""Help in editors: places in TOML and back, and the language server asked by the protocol's own client, over files as they are typed."""

from __future__ import annotations

import asyncio
import random
import tomllib
import unittest
from contextlib import suppress
from pathlib import Path
from typing import Any

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st
from lsprotocol import types as lsp
from pygls.lsp.client import LanguageClient

import oak_ledger as oak
from oak_ledger.definition.document import item_of
from oak_ledger.editor import changes, meanings
from oak_ledger.editor.files import Desk
from oak_ledger.editor.findings import at_once
from oak_ledger.editor.offers import offers
from oak_ledger.editor.texts import pieces_of
from oak_ledger.reference.reshape import plan_inlined, with_extracted
from tests.service import OAK
from tests.support import FolderCase, seed_of_the_code

ROWS = "a,b,kind\n1,2,oak\n3,4,ash\n5,,oak\n"
DEFINITION = """\
# 🌲 before everything
[source]
name = "Loads"

[origin]
kind = "files"
path = "rows.csv"

[[field]]
name = "A"
column = "a"
type = "integer"
description = "what is weighed 🌲"

[[field]]
name = "Bee x"
column = "b"
type = "integer"

[[field]]
name = "Kind"
column = "kind"

[[field]]
name = "Sum"
formula = "/*🌲*/ A + \\"Bee x\\" * 2"

[[field]]
name = "Share"
formula = \'\'\'SUM(Sum) / SUM(A)\'\'\'

[[field]]
name = "Size"
formula = "CASE WHEN Kind = 'oak' THEN 1 ELSE 0 END"
"""
REPORT = """\
[report]
name = "By kind"
source = "Loads"

[[field]]
name = "Twice"
formula = "Sum * 2"

[[panel]]
kind = "table"
title = "{Sum} by kind"
by = ["Kind"]
show = ["Sum", "Twice", { name = "Most", formula = "MAX(\\"Bee x\\")" }]
"""
TEXTS = st.text(st.sampled_from("ab'\"\\ \n\t{}é🌲#="), max_size=12)


class PlacesInTexts(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(st.lists(TEXTS, min_size=1, max_size=4), st.data())
    def test_each_character_is_found_where_it_is_written(self, values: list[str], data: st.DataObject) -> None:
        """In every kind of text, with comments between that look like texts: the piece of the file means the piece of the value."""
        kinds = [data.draw(st.sampled_from(self.ways(value))) for value in values]
        text = "# 'no'\n[[field]]\n" + "".join(f'k{at} = {one} # "x" \'\n' for at, one in enumerate(kinds))
        text += f"list = [{', '.join(one for one in kinds if chr(10) not in one)}]\n"
        (piece,) = pieces_of(text)
        self.assertEqual([one.value for one in piece.texts][: len(values)], values)
        for one in piece.texts:
            self.assertEqual(len(one.edges), len(one.value) + 1)
            for at, sign in enumerate(one.value):
                written = text[one.edges[at] : one.edges[at + 1]]
                if text[one.start] == '"' and "\\" in written:
                    self.assertEqual(tomllib.loads(f'v = """{written}"""')["v"], sign)
                else:
                    self.assertEqual(written, sign)
                self.assertEqual(one.in_value(one.in_file(at)), at)

    def ways(self, value: str) -> list[str]:
        """How a text can be written."""
        basic = "".join({'"': '\\"', "\\": "\\\\", "\n": "\\n", "\t": "\\u0009"}.get(sign, sign) for sign in value)
        found = [f'"{basic}"', f'"""\n{basic}"""', f'"""{basic}\\\n   """', item_of(value).as_string()]
        if "'" not in value and "\n" not in value:
            found.append(f"'{value}'")
        if "'" not in value:
            found.append(f"'''\n{value}'''")
        return [one for one in found if tomllib.loads(f"v = {one}")["v"] == value]

    def test_a_file_that_cannot_be_read_has_the_other_tables(self) -> None:
        pieces = pieces_of(DEFINITION.replace('name = "Kind"', "name = "))
        self.assertEqual([one.name for one in pieces if one.values is None], [""])
        self.assertEqual(
            [one.name for one in pieces if one.table == "field"], ["A", "Bee x", "", "Sum", "Share", "Size"]
        )


class Client:
    """An editor over a folder: what it has open, and what it is shown."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.texts, self.shown = folder, dict[str, str](), dict[str, list[lsp.Diagnostic]]()
        self.client = LanguageClient("tests", "1")
        self.said: list[str] = []
        self.client.feature(lsp.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)(lambda params: self._show(params))
        self.client.feature(lsp.WINDOW_SHOW_MESSAGE)(lambda params: self.said.append(params.message))

    def _show(self, params: lsp.PublishDiagnosticsParams) -> None:
        self.shown[params.uri.rpartition("/")[2]] = list(params.diagnostics)

    async def __aenter__(self) -> Client:
        await self.client.start_io(OAK, "language-server", cwd=self.folder)
        await self.client.initialize_async(lsp.InitializeParams(capabilities=lsp.ClientCapabilities(), root_uri=self.folder.as_uri()))  # fmt: skip
        self.client.initialized(lsp.InitializedParams())
        return self

    async def __aexit__(self, *_: object) -> None:
        await self.client.shutdown_async(None)
        self.client.exit(None)
        await self.client.stop()

    def doc(self, name: str) -> Any:
        """A document of the protocol."""
        return lsp.TextDocumentIdentifier((self.folder / name).as_uri())

    def open(self, name: str) -> None:
        """Open a file."""
        self.texts[name] = (self.folder / name).read_bytes().decode()
        item = lsp.TextDocumentItem(self.doc(name).uri, "toml", 1, self.texts[name])
        self.client.text_document_did_open(lsp.DidOpenTextDocumentParams(item))

    def type(self, name: str, old: str, new: str) -> None:
        """Change a piece of a file, as an editor sends it."""
        assert old in self.texts[name]
        span = lsp.Range(self.at(name, old), self.at(name, old, len(old)))
        self.texts[name] = self.texts[name].replace(old, new, 1)
        versioned = lsp.VersionedTextDocumentIdentifier(2, self.doc(name).uri)
        change = lsp.TextDocumentContentChangePartial(span, new)
        self.client.text_document_did_change(lsp.DidChangeTextDocumentParams(versioned, [change]))

    def at(self, name: str, word: str, more: int = 0) -> lsp.Position:
        """The position of a word, in units of UTF-16."""
        before = self.texts[name][: self.texts[name].index(word) + more]
        line = before[before.rfind("\n") + 1 :]
        return lsp.Position(before.count("\n"), len(line.encode("utf-16-le")) // 2)

    async def until(self, name: str, *codes: str) -> list[lsp.Diagnostic]:
        """What is shown of a file once it is of these codes; with … beside others."""
        for _ in range(600):
            there = sorted(str(one.code) for one in self.shown.get(name, []))
            if name in self.shown and (there == sorted(codes) or ("…" in codes and {*codes} - {"…"} <= {*there})):
                return self.shown[name]
            await asyncio.sleep(0.05)
        raise AssertionError(f"{name} shows {self.shown.get(name)}")

    def applied(self, edit: lsp.WorkspaceEdit | None) -> dict[str, str]:
        """The files as an edit makes them."""
        assert edit is not None
        assert edit.changes is not None
        made = {}
        for uri, steps in edit.changes.items():
            name = uri.rpartition("/")[2]
            lines = self.texts.get(name, (self.folder / name).read_text()).split("\n")
            for one in sorted(steps, key=lambda one: (one.range.start.line, one.range.start.character), reverse=True):
                offsets = [self._offset(lines, at) for at in (one.range.start, one.range.end)]
                text = "\n".join(lines)
                lines = (text[: offsets[0]] + one.new_text + text[offsets[1] :]).split("\n")
            made[name] = "\n".join(lines)
        return made

    def _offset(self, lines: list[str], at: lsp.Position) -> int:
        own = lines[at.line].encode("utf-16-le")[: at.character * 2].decode("utf-16-le")
        return sum(len(one) + 1 for one in lines[: at.line]) + len(own)


class AnEditor(FolderCase):
    """A whole session by the protocol."""

    def setUp(self) -> None:
        super().setUp()
        for name, text in (("rows.csv", ROWS), ("l.oak.toml", DEFINITION), ("k.report.toml", REPORT)):
            Path(name).write_text(text, encoding="utf-8")

    def in_session(self, play: Any) -> None:
        """Play something with an editor that has both files open."""

        async def session() -> None:
            async with Client(Path.cwd()) as editor:
                editor.open("l.oak.toml")
                editor.open("k.report.toml")
                await play(editor, editor.client)

        asyncio.run(asyncio.wait_for(session(), 300))

    def test_whatever_is_typed_there_is_an_answer_in_the_file(self) -> None:
        """Keys drawn at random, in both files: no answer fails, and every place is one of the file."""
        keys = ['"', "'", "'''", "[", "]", "=", "# ", "\\", "{", "}", "(", ")", ",", "--", "/*", "🌲", "\n", "\r\n", "Sum", '\\"Kind\\"',
                "SUM(", "CASE WHEN ", "by = ", "hidden = maybe\n", "[[field]]\n", "[x.y]\n", "a.b = 1\n", 'values = { "a" = "b" }\n']  # fmt: skip
        rng = random.Random(seed_of_the_code())
        desk, texts = Desk(), {Path("l.oak.toml").absolute(): DEFINITION, Path("k.report.toml").absolute(): REPORT}
        whole = dict(texts)
        for path, text in texts.items():
            desk.put(path, text)
        for _ in range(250):
            path = rng.choice([*texts])
            text = whole[path] if desk.put(path, texts[path]).findings and rng.random() < 0.5 else texts[path]
            at = rng.randrange(len(text) + 1)
            texts[path] = text[:at] + (
                rng.choice(keys) + text[at:] if rng.random() < 0.6 else text[at + rng.randrange(12) :]
            )
            with self.subTest(text=texts[path], seed=seed_of_the_code()):
                file = desk.put(path, texts[path])
                findings = at_once(desk, file)
                start = rng.randrange(len(file.text) + 1)
                end = min(len(file.text), start + rng.randrange(20))
                offered = offers(desk, file, start, {"kind": ["oak", "a'b"]})
                spans = [*(file.span(one.place) for one in findings), *((one.start, one.end) for one in offered)]
                self.assertEqual([span for span in spans if not 0 <= span[0] <= span[1] <= len(file.text)], [])
                meanings.meaning(desk, file, start, {})
                meanings.signature(file, start)
                for change in changes.changes(desk, file, start, end, findings, {}):
                    for edit in change.files:
                        tomllib.loads(edit.after)
                look = changes.formatted(file)
                made = file.text
                for span, new in reversed(changes.text_edits(file.text, look)):
                    made = made[: span[0]] + new + made[span[1] :]
                self.assertEqual(made, look)
                with suppress(oak.OakError):
                    changes.renamed(desk, file, start, "New")
                list(meanings.types(desk, file))
                list(meanings.users(desk, file))

    def test_a_column_in_place_of_a_missing_one_is_offered_by_its_values(self) -> None:
        Path("rows.csv").write_text(ROWS + "".join(f"{at},{at * 3},oak\n" for at in range(40)))
        self.oak("publish", "l")
        self.oak("release", "Loads", "--yes")
        Path("rows.csv").write_text(Path("rows.csv").read_text().replace("a,b,kind", "a,heavy,kind"))

        async def play(editor: Client, client: LanguageClient) -> None:
            await editor.until("l.oak.toml", "missing-column", "…")
            titles: dict[str, Any] = {}
            while not any(title.startswith("heavy") for title in titles):  # once the rows were read
                titles = await self.actions(editor, "l.oak.toml", "Bee x", 1)
                await asyncio.sleep(0.05)
            made = editor.applied(next(edit for title, edit in titles.items() if title.startswith("heavy")))
            self.assertIn('column = "heavy"', made["l.oak.toml"])

        self.in_session(play)

    def test_lines_keep_their_ends(self) -> None:
        Path("l.oak.toml").write_bytes(DEFINITION.replace("\n", "\r\n").encode())

        async def play(editor: Client, client: LanguageClient) -> None:
            await editor.until("k.report.toml")
            editor.texts["l.oak.toml"] = Path("l.oak.toml").read_bytes().decode()
            edit = await client.text_document_rename_async(lsp.RenameParams(editor.doc("l.oak.toml"), editor.at("l.oak.toml", "Bee x", 1), "Bee"))  # fmt: skip
            assert edit is not None
            assert edit.changes is not None
            texts = {one.new_text for one in edit.changes[editor.doc("l.oak.toml").uri]}
            self.assertIn('name = "Bee"\r\n', texts)
            self.assertEqual([text for text in texts if "\n" in text.replace("\r\n", "")], [])

        self.in_session(play)

    def test_findings_while_typing_and_after_a_save(self) -> None:
        async def play(editor: Client, client: LanguageClient) -> None:
            await editor.until("k.report.toml")
            editor.type("l.oak.toml", '\\"Bee x\\" * 2', '\\"Be x\\" * 2')
            (found,) = await editor.until("l.oak.toml", "unknown-field")
            self.assertEqual((found.range.start, found.range.end), (editor.at("l.oak.toml", '\\"Be x'), editor.at("l.oak.toml", '\\"Be x\\"', 8)))  # fmt: skip
            editor.type("l.oak.toml", '"/*🌲*/', "/*🌲*/")
            (found,) = await editor.until("l.oak.toml", "not-toml")
            self.assertEqual(found.range.start.line, editor.at("l.oak.toml", "/*🌲").line)
            editor.type("l.oak.toml", '/*🌲*/ A + \\"Be x', '"/*🌲*/ A + \\"Bee x')
            await editor.until("l.oak.toml")
            editor.type("l.oak.toml", "= 'oak'", "= 'Oak'")
            await editor.until("l.oak.toml")
            client.text_document_did_save(lsp.DidSaveTextDocumentParams(editor.doc("l.oak.toml")))
            found, *_ = await editor.until("l.oak.toml", "letter-case", "nulls-spread", "…")
            editor.type("k.report.toml", "Sum * 2", "Summ * 2")
            await editor.until("k.report.toml", "unknown-field", "unknown-field")

        self.in_session(play)

    def test_what_may_be_typed(self) -> None:
        # a file, what is replaced, what is typed with | where the cursor is, and the first proposals
        cases = [
            ("l.oak.toml", "SUM(Sum)", "SUM(|)", ["A", '"Bee x"', "Size", "Sum"]),
            ("l.oak.toml", "SUM(Sum)", 'SUM("B|', ['"Bee x"']),
            ("l.oak.toml", 'A + \\"Bee x\\"', "A + B|", ['\\"Bee x\\"', "BTRIM"]),
            ("l.oak.toml", "Kind = 'oak'", "Kind = 'o|'", ["'oak'", "'ash'"]),
            ("l.oak.toml", "Kind = 'oak'", "Kind IN ('oak', '|", ["'oak'", "'ash'"]),
            ("l.oak.toml", 'type = "integer"\n\n', "ty|\n\n", ["formula = ", "type = "]),
            ("l.oak.toml", 'type = "integer"\n\n', "type = |\n\n", ['"text"', '"integer"']),
            ("l.oak.toml", 'type = "integer"\n\n', 'type = "|"\n\n', ["text", "integer"]),
            ("l.oak.toml", 'type = "integer"\n\n', "hidden = |\n\n", ["true", "false"]),
            ("l.oak.toml", 'column = "a"', 'column = "|"', ["a", "b", "kind"]),
            ("k.report.toml", 'by = ["Kind"]', 'by = ["K|"]', ["Kind"]),
            ("k.report.toml", "{Sum} by", "{S|", ["Sum}", "Share}"]),
            ("k.report.toml", 'MAX(\\"Bee x\\")', "MAX(Tw|)", ["Twice"]),
            ("k.report.toml", 'kind = "table"', "kind = |", ['"table"', '"bars"']),
            ("k.report.toml", 'source = "Loads"', 'source = "|"', ["Loads"]),
        ]

        async def play(editor: Client, client: LanguageClient) -> None:
            client.text_document_did_save(lsp.DidSaveTextDocumentParams(editor.doc("l.oak.toml")))
            asked = lsp.CodeLensParams(editor.doc("l.oak.toml"))
            while not any(
                "over all" in one.command.title
                for one in await client.text_document_code_lens_async(asked) or ()
                if one.command
            ):
                await asyncio.sleep(0.05)
            for name, old, new, wanted in cases:
                with self.subTest(new):
                    before = editor.texts[name]
                    editor.type(name, old, new.replace("|", ""))
                    at = before.index(old) + new.index("|")
                    position = editor.at(name, editor.texts[name], at)
                    try:
                        answer: Any = await client.text_document_completion_async(lsp.CompletionParams(editor.doc(name), position))  # fmt: skip
                        offered = [one.text_edit.new_text for one in answer.items]
                        self.assertEqual([one for one in wanted if one not in offered], [], offered[:12])
                    finally:
                        editor.type(name, editor.texts[name], before)

        self.in_session(play)

    def test_meanings_places_and_changes(self) -> None:
        async def play(editor: Client, client: LanguageClient) -> None:
            own, other = "l.oak.toml", "k.report.toml"
            await editor.until(other)
            for word, more, wanted in (('\\"Bee x\\" *', 3, "integer per row"), ("SUM(Sum)", 1, "SUM"), ("column = \"a\"", 1, "plain field")):  # fmt: skip
                hover = await client.text_document_hover_async(lsp.HoverParams(editor.doc(own), editor.at(own, word, more)))  # fmt: skip
                assert hover is not None
                self.assertIn(wanted, hover.contents.value)  # type: ignore[union-attr]
            there: Any = await client.text_document_definition_async(lsp.DefinitionParams(editor.doc(other), editor.at(other, "Sum * 2", 1)))  # fmt: skip
            self.assertEqual((there.uri, there.range.start), (editor.doc(own).uri, editor.at(own, 'Sum"\nformula')))
            places = await client.text_document_references_async(lsp.ReferenceParams(lsp.ReferenceContext(True), editor.doc(own), editor.at(own, "Bee x", 1)))  # fmt: skip
            self.assertEqual(sorted(one.uri.rpartition("/")[2] for one in places or ()), [other, own, own])
            call = await client.text_document_signature_help_async(lsp.SignatureHelpParams(editor.doc(own), editor.at(own, "SUM(Sum)", 4)))  # fmt: skip
            assert call is not None
            self.assertIn("SUM", call.signatures[0].label)
            hints = await client.text_document_inlay_hint_async(lsp.InlayHintParams(editor.doc(own), lsp.Range(lsp.Position(0, 0), lsp.Position(99, 0))))  # fmt: skip
            self.assertEqual(
                [one.label for one in hints or ()], ["integer per row", "number per group", "integer per row"]
            )
            lenses = [one.command.title for one in await client.text_document_code_lens_async(lsp.CodeLensParams(editor.doc(own))) or () if one.command]  # fmt: skip
            self.assertIn("used in 2 places", lenses)
            symbols = await client.text_document_document_symbol_async(lsp.DocumentSymbolParams(editor.doc(own)))
            self.assertEqual([one.name for one in symbols or ()][:4], ["Loads", "origin", "A", "Bee x"])
            folds = await client.text_document_folding_range_async(lsp.FoldingRangeParams(editor.doc(own)))
            self.assertEqual(len(folds or ()), 8)
            # a rename is what the command writes
            edit = await client.text_document_rename_async(lsp.RenameParams(editor.doc(own), editor.at(own, "Bee x", 1), "Bü 🌲"))  # fmt: skip
            made = editor.applied(edit)
            self.oak("field", "rename", "l", "Bee x=Bü 🌲")
            self.assertEqual(made, {name: Path(name).read_text(encoding="utf-8") for name in (own, other)})
            self.oak("undo", "l")
            await client.text_document_rename_async(
                lsp.RenameParams(editor.doc(own), editor.at(own, "Bee x", 1), "Kind")
            )
            self.assertIn("Kind", " ".join(editor.said))
            local = editor.applied(await client.text_document_rename_async(lsp.RenameParams(editor.doc(other), editor.at(other, 'Twice"\n', 1), "Double")))  # fmt: skip
            self.assertEqual((local[other].count("Double"), local[other].count("Twice")), (2, 0))
            # changes of formulas
            actions = await self.actions(editor, own, "A + ", len('A + \\"Bee x\\" * 2'))
            cut = editor.applied(actions["Make this piece a field: 'Part of Sum'"])
            self.assertEqual(
                [field["formula"] for field in tomllib.loads(cut[own])["field"][3:5]],
                ['A + "Bee x" * 2', '/*🌲*/ "Part of Sum"'],
            )
            self.assertNotIn(
                "Put the formula of 'Sum' where it is used", await self.actions(editor, own, "Sum) /", 1)
            )  # a panel shows it
            editor.type(own, "SUM(Sum)", "SUM(Size)")
            gone = editor.applied(
                (await self.actions(editor, own, "Size) /", 1))["Put the formula of 'Size' where it is used"]
            )
            self.assertIn("SUM((CASE WHEN Kind = 'oak' THEN 1 ELSE 0 END)) / SUM(A)", gone[own])
            self.assertNotIn('name = "Size"', gone[own])
            lifted = editor.applied(
                (await self.actions(editor, other, "Twice", 2))["Make 'Twice' a field of the source"]
            )
            self.assertIn("Twice", lifted[own])
            self.assertNotIn("[[field]]", lifted[other])
            editor.type(own, '\\"Bee x\\" * 2', '\\"Be x\\" * 2')
            await editor.until(own, "unknown-field")
            repaired = editor.applied((await self.actions(editor, own, "Be x", 1))['Write /*🌲*/ A + "Bee x" * 2'])
            self.assertEqual(tomllib.loads(repaired[own])["field"][3]["formula"], '/*🌲*/ A + "Bee x" * 2')

        self.in_session(play)

    async def actions(self, editor: Client, name: str, word: str, length: int) -> dict[str, Any]:
        """What can be done with a piece of a file, by title."""
        span = lsp.Range(editor.at(name, word), editor.at(name, word, length))
        found = await editor.client.text_document_code_action_async(lsp.CodeActionParams(editor.doc(name), span, lsp.CodeActionContext([])))  # fmt: skip
        return {one.title: one.edit for one in found or () if isinstance(one, lsp.CodeAction)}


class Reshaped(unittest.TestCase):
    SOURCE = oak.Source.from_table(pa.table({"a": [1, 2, None], "b": [3, 4, 5]}), name="t")

    def test_values_stay_and_what_would_not_is_refused(self) -> None:
        source = self.SOURCE.with_field("r", "SUM(a) / SUM(b) + 1").with_field("g", "a + b -- why").with_field("h", "2 * g - g")  # fmt: skip
        cut = with_extracted(source, "r", 0, 15, "of it")
        self.assertEqual(cut.state("r").spec.formula, '"of it" + 1')  # type: ignore[union-attr]
        self.assertEqual(cut.tally(["a"], ["r"]).to_dicts(), source.tally(["a"], ["r"]).to_dicts())
        for start, end, code in ((0, 6, None), (4, 10, "not-a-piece"), (0, 19, "not-a-piece"), (4, 5, "not-a-piece")):
            with self.subTest((start, end)):
                if code is None:
                    self.assertEqual(with_extracted(source, "r", start, end, "s").tally(show=["r"]).value(), source.tally(show=["r"]).value())  # fmt: skip
                else:
                    with self.assertRaises(oak.OakError) as caught:
                        with_extracted(source, "r", start, end, "s")
                    self.assertEqual(caught.exception.code, code)
        inlined = plan_inlined(source, "g").source
        self.assertNotIn("g", [state.name for state in inlined.fields])
        self.assertEqual(inlined.rows(["h"]).to_dicts(), source.rows(["h"]).to_dicts())
        for wrong, code in ((source.with_key(["g"]), "still-named"), (source, "not-calculated")):
            with self.assertRaises(oak.OakError) as caught:
                plan_inlined(wrong, "g" if code == "still-named" else "a")
            self.assertEqual(caught.exception.code, code)
