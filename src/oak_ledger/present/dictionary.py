"""The dictionary of published sources: a page and a text for each, and an index of all. Pages need nothing beside them."""

from __future__ import annotations

import hashlib
import re
from base64 import b64encode
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from oak_ledger.catalogue.versions import Version
from oak_ledger.definition.formats import show
from oak_ledger.insight.additivity import how_it_totals
from oak_ledger.insight.profile import FieldProfile, profile
from oak_ledger.present.lineages import lineage_png
from oak_ledger.present.page import page, rendered
from oak_ledger.present.profiles import distribution_png
from oak_ledger.reference import Lineage, Piece, lineage
from oak_ledger.source import Source
from oak_ledger.types import Grain

if TYPE_CHECKING:
    from markupsafe import Markup

COMMON = 5  # values of a field that are shown
LATEST = 3  # sources that the first page names as new


@dataclass(frozen=True, slots=True)
class FieldEntry:
    """What the dictionary says of one field. `columns` are those of the origin that it comes from, `uses` and `used_by` other fields."""

    name: str
    type: str
    per: str
    meaning: str
    format: str
    formula: str
    columns: tuple[str, ...]
    uses: tuple[str, ...]
    used_by: tuple[str, ...]
    profile: FieldProfile | None
    lineage: Lineage
    totals: str = ""
    """How its values come to a total; empty where that is of no interest."""

    @property
    def anchor(self) -> str:
        """Its place in the page."""
        return slug(self.name)

    def text(self, value: Any) -> str:
        """A value in the field's format."""
        return show(value, self.format)

    def facts(self) -> Iterator[tuple[str, str]]:
        """What is known of it, label by label; without what there is none of."""
        yield "type", f"{self.type}, one value per {self.per}"
        if self.totals:
            yield "in totals", self.totals
        yield from ((label, text) for label, text in (("shown as", self.format), ("formula", self.formula)) if text)
        for label, names in (("from the columns", self.columns), ("made of", self.uses), ("used by", self.used_by)):
            if names:
                yield label, ", ".join(names)
        found = self.profile
        if found is not None:
            nulls = f"{found.nulls:,} null" if found.nulls else "no nulls"
            yield "values", f"{found.distinct:,} distinct, {nulls}"
            if found.minimum is not None:
                yield "from, to", f"{self.text(found.minimum)}, {self.text(found.maximum)}"
            if found.common and found.distinct < found.rows - found.nulls:
                yield (
                    "commonest",
                    ", ".join(
                        f"{self.text(value) or 'empty text'} ({rows:,})" for value, rows in found.common[:COMMON]
                    ),
                )


@dataclass(frozen=True, slots=True)
class SourceEntry:
    """What the dictionary says of one source: the version that it describes, its fields, and all versions that one may see, the newest first."""

    name: str
    area: str
    about: str
    description: str
    owner: str
    key: tuple[str, ...]
    version: Version | None
    fields: tuple[FieldEntry, ...]
    history: tuple[Version, ...]

    def is_replaced_by(self, other: SourceEntry) -> bool:
        """Whether its version was retired in favour of another source."""
        return self.version is not None and names_source(self.version.replaced_by, other.name, other.area)

    @property
    def file(self) -> str:
        """What its page is called, without the ending."""
        return f"{slug(self.area)}--{slug(self.name)}" if self.area else slug(self.name)


def names_source(said: str, name: str, area: str) -> bool:
    """Whether a text names a source, with or without its area."""
    return said.casefold() in (name.casefold(), f"{area}/{name}".casefold())


def slug(text: str) -> str:
    """A name as part of an address, another one for each name: small letters, digits and single hyphens; of a name that has more than letters,
    digits and spaces also the beginning of its digest."""
    folded = text.casefold()
    made = re.sub(r"[^a-z0-9]+", "-", folded).strip("-")
    if made.replace("-", " ") == folded:
        return made
    return f"{made}-{hashlib.sha256(folded.encode()).hexdigest()[:8]}".strip("-")


def entry_of(source: Source, history: Sequence[Version] = (), *, profiled: bool = True) -> SourceEntry:
    """What there is to say of a source as its readers see it: hidden and broken fields are left out. With `profiled`, also of the values, which reads all rows."""
    shown = [field for field in source.fields if not field.hidden and not field.broken]
    names = {state.name.casefold() for state in shown}
    per_row = [state.name for state in shown if state.grain == Grain.ROW]
    profiles = {one.field: one for one in profile(source, per_row)} if per_row and profiled else {}
    fields = []
    for state in shown:
        found = _seen(lineage(source, state.name), names)
        near = [needed for needed, by in found.needs if by == found.piece and needed.kind != "column"]
        fields.append(
            FieldEntry(
                state.name, state.type_name, "group" if state.grain == Grain.GROUP else "row", getattr(state.spec, "description", ""), state.format,
                getattr(state.spec, "formula", ""), tuple(dict.fromkeys(needed.name for needed, _ in found.needs if needed.kind == "column")),
                tuple(dict.fromkeys(piece.name for piece in near if piece.name.casefold() in names)),
                tuple(dict.fromkeys(by.name for needed, by in found.users if needed == found.piece and by.name.casefold() in names)),
                profiles.get(state.name), found,
                how_it_totals(source, state).partition("; for groups")[0] if state.type is not None and state.type.numeric else "",
            )
        )  # fmt: skip
    about, number = source.about, source.published.number if source.published is not None else 0
    version = next((version for version in history if version.number == number), None)
    area = version.area if version is not None else ""
    said = str(source.published) if source.published is not None else "a working copy, not published"
    return SourceEntry(source.name, area, said, about.description, about.owner, tuple(about.key or ()), version, tuple(fields), tuple(history))  # fmt: skip


def _seen(whole: Lineage, names: Collection[str]) -> Lineage:
    """A lineage without what is hidden, and without what is only reached through that."""

    def kept(pairs: Sequence[tuple[Piece, Piece]], near: int) -> tuple[tuple[Piece, Piece], ...]:
        there, found = {whole.piece}, []
        for _ in pairs:  # from the field outwards
            for pair in pairs:
                far = pair[1 - near]
                shown = far.kind not in ("field", "formula") or far.name.casefold() in names
                if pair not in found and pair[near] in there and shown:
                    there.add(far)
                    found.append(pair)
        return tuple(found)

    return replace(whole, needs=kept(whole.needs, 1), users=kept(whole.users, 0))


STYLE = """
main { max-width: 1000px; } article { border-top: 1px solid var(--line); padding: 1rem 0 .4rem; } h3 { margin: 0 0 .3rem; font-size: 1.05rem; }
dl { display: grid; grid-template-columns: 9rem 1fr; gap: .15rem .8rem; margin: .4rem 0; } dt { color: var(--quiet); } dd { margin: 0; overflow-wrap: anywhere; }
code { font-family: "DejaVu Sans Mono", monospace; font-size: .9em; } details img { width: auto; max-width: 100%; } .found { margin: 1rem 0; }
input { font: inherit; padding: .3rem .5rem; border: 1px solid #6d7770; border-radius: 3px; background: var(--paper); color: var(--text); width: min(22rem, 100%); box-sizing: border-box; }
nav ul { columns: 14rem; padding-left: 1.2rem; } .shape { width: auto; max-width: min(26rem, 100%); display: block; margin: .3rem 0; }
@media (max-width: 600px) { dl { grid-template-columns: 1fr; gap: 0; } dd { margin-bottom: .4rem; } } @media print { .found { display: none; } }
"""
SEARCH = """
const box = document.querySelector("input[type=search]"), said = document.querySelector("output");
box.closest(".found").hidden = false;
box.addEventListener("input", () => {
  const words = box.value.toLowerCase().split(/\\s+/).filter(Boolean);
  let shown = 0;
  for (const one of document.querySelectorAll("[data-text]")) {
    one.hidden = !words.every(word => one.dataset.text.includes(word));
    shown += !one.hidden;
  }
  said.textContent = words.length ? shown + " found" : "";
});
"""
_FOUND = """<div class="found" hidden><label>Find <input type="search"></label> <output></output></div>"""
_SOURCE = """{% macro linked(links) %}{% for name, address in links %}<a href="{{ address }}">{{ name }}</a>{% if not loop.last %}, {% endif %}{% endfor %}{% endmacro -%}
<p><a href="{{ index }}">All sources{% if reports is not none %} and reports{% endif %}</a></p>
<h1>{{ one.name }}</h1>
<p class="under">{{ one.about }}{% if one.owner %} · owner: {{ one.owner }}{% endif %}{% if one.area %} · area {{ one.area }}{% endif %}</p>
{% for said, links in others if links %}<p>{{ said }}: {{ linked(links) }}</p>
{% endfor %}{% if one.description %}<p>{{ one.description }}</p>{% endif %}
{% if one.key %}<p>One row for each {{ one.key | join(", ") }}.</p>{% endif %}
{% if reports %}<p>Reports: {{ linked(reports) }}</p>
{% endif %}{{ found }}
<h2>Fields</h2>
{% if fields | length > 8 %}<nav aria-label="fields"><ul>{% for field, _, _, _ in fields %}<li><a href="#{{ field.anchor }}">{{ field.name }}</a></li>{% endfor %}</ul></nav>
{% endif %}{% for field, facts, shape, picture in fields %}<article id="{{ field.anchor }}" data-text="{{ (field.name ~ ' ' ~ field.meaning ~ ' ' ~ field.type ~ ' ' ~ field.formula) | lower }}">
<h3>{{ field.name }}</h3>
{% if field.meaning %}<p>{{ field.meaning }}</p>{% endif %}
<dl>{% for label, text in facts %}<dt>{{ label }}</dt><dd>{% if label == "formula" %}<code>{{ text }}</code>{% else %}{{ text }}{% endif %}</dd>{% endfor %}</dl>
{% if shape %}<img class="shape" alt="How the values of {{ field.name }} are spread; the figures are above" src="data:image/png;base64,{{ shape }}">{% endif %}
{% if picture %}<details><summary>Where {{ field.name }} comes from, as a picture</summary>
<img alt="{{ field.name }} is made of {{ field.columns | join(', ') or 'no column' }}{% if field.uses %} by way of {{ field.uses | join(', ') }}{% endif %}" src="data:image/png;base64,{{ picture }}"></details>{% endif %}
</article>
{% endfor %}{% if one.history %}<h2>Versions</h2>
<div class="wide" tabindex="0" role="region" aria-label="versions"><table><thead><tr><th scope="col" class="number">version</th><th scope="col">stage</th><th scope="col">made</th><th scope="col" class="number">rows</th><th scope="col">signed</th><th scope="col">note</th></tr></thead>
<tbody>{% for version in one.history %}<tr><td class="number">{{ version.number }}</td><td>{{ version.stage }}</td><td>{{ version.made_at }} by {{ version.made_by }}</td><td class="number">{{ "{:,}".format(version.rows) }}</td>
<td>{% for signature in version.signatures %}{{ signature.by }}, {{ signature.at }}{% if signature.note %}: {{ signature.note }}{% endif %}{% if not loop.last %}; {% endif %}{% endfor %}</td><td>{{ version.note }}</td></tr>
{% endfor %}</tbody></table></div>{% endif %}
<script>{{ search | safe }}</script>"""
_INDEX = """<h1>{{ title }}</h1>
{% if latest %}<p>New: {% for one in latest %}<a href="{{ address(one) }}">{{ one.name }}</a>, version {{ one.version.number }}, {{ one.version.made_at[:10] }}{% if not loop.last %}; {% endif %}{% endfor %}</p>
{% endif %}{% if reports %}<h2>Reports</h2>
<ul>{% for name, address, about in reports %}<li><a href="{{ address }}">{{ name }}</a> <span class="note">{{ about }}</span></li>
{% endfor %}</ul>
<h2>Sources</h2>
{% endif %}<p class="under">What each source and each of its fields means.</p>
{{ found }}
{% for one in current %}<article data-text="{{ (one.name ~ ' ' ~ one.description ~ ' ' ~ (one.fields | map(attribute='name') | join(' ')) ~ ' ' ~ (one.fields | map(attribute='meaning') | join(' '))) | lower }}">
<h2><a href="{{ address(one) }}">{{ one.name }}</a></h2>
<p class="under">{{ one.about }}{% if one.area %} · area {{ one.area }}{% endif %}</p>
{% if one.description %}<p>{{ one.description }}</p>{% endif %}
<nav aria-label="fields of {{ one.name }}"><ul>{% for field in one.fields %}<li><a href="{{ address(one) }}#{{ field.anchor }}">{{ field.name }}</a></li>{% endfor %}</ul></nav>
</article>
{% endfor %}{% if retired %}<h2>Retired</h2>
<ul>{% for one in retired %}<li data-text="{{ one.name | lower }}"><a href="{{ address(one) }}">{{ one.name }}</a> <span class="note">{{ one.about }}</span>
{% for other in entries if one.is_replaced_by(other) %} · use <a href="{{ address(other) }}">{{ other.name }}</a>{% endfor %}</li>
{% endfor %}</ul>{% endif %}<script>{{ search | safe }}</script>"""


Link = tuple[str, str]
"""A name and its address."""


def source_html(
    entry: SourceEntry, index: str = "index.html", reports: Sequence[Link] | None = None, others: Sequence[tuple[str, Sequence[Link]]] = ()
) -> str:  # fmt: skip
    """The page of a source; with the reports that read it, where they have pages, and other sources, under what they are to it."""
    fields = []
    for field in entry.fields:
        shape = distribution_png(field.profile) if field.profile is not None else b""
        picture = lineage_png(field.lineage) if field.formula else b""
        fields.append((field, list(field.facts()), b64encode(shape).decode(), b64encode(picture).decode()))
    markup = rendered(
        _SOURCE, one=entry, fields=fields, found=_found(), search=SEARCH, index=index, reports=reports, others=others
    )
    return page(entry.name, markup, STYLE)


def index_html(
    entries: Sequence[SourceEntry],
    address: Callable[[SourceEntry], str] = lambda entry: f"{entry.file}.html",
    reports: Sequence[tuple[str, str, str]] = (),
) -> str:
    """The page of all sources, and of reports where they have pages: name, address, and what is to be said of each."""
    title = "Sources and reports" if reports else "Sources"
    retired = [entry for entry in entries if entry.version is not None and entry.version.stage == "retired"]
    released = [
        (entry.version.made_at, entry)
        for entry in entries
        if entry.version is not None and entry.version.stage == "released"
    ]
    latest = (
        [entry for _, entry in sorted(released, key=lambda pair: pair[0], reverse=True)[:LATEST]]
        if len(released) > 1
        else []
    )
    current = [entry for entry in entries if entry not in retired]
    markup = rendered(_INDEX, title=title, entries=entries, current=current, retired=retired, latest=latest, address=address, found=_found(), search=SEARCH, reports=reports)  # fmt: skip
    return page(title, markup, STYLE)


def _found() -> Markup:
    return rendered(_FOUND)


def source_markdown(entry: SourceEntry) -> str:
    """The text of a source."""
    lines = [
        f"# {_plain(entry.name)}",
        "",
        entry.about + (f" · owner: {_plain(entry.owner)}" if entry.owner else ""),
        "",
    ]
    lines += [_plain(entry.description), ""] if entry.description else []
    lines += [f"One row for each {_plain(', '.join(entry.key))}.", ""] if entry.key else []
    for field in entry.fields:
        lines += [f"## {_plain(field.name)}", ""]
        lines += [_plain(field.meaning), ""] if field.meaning else []
        for label, text in field.facts():
            lines.append(f"- {label}: {_code(text) if label == 'formula' else _plain(text)}")
        lines.append("")
    if entry.history:
        lines += ["## Versions", "", "| version | stage | made | rows | signed | note |", "|---|---|---|---|---|---|"]
        for version in entry.history:
            signed = "; ".join(f"{it.by}, {it.at}" + (f": {it.note}" if it.note else "") for it in version.signatures)
            cells = (
                str(version.number),
                version.stage,
                f"{version.made_at} by {version.made_by}",
                f"{version.rows:,}",
                signed,
                version.note,
            )
            lines.append(f"| {' | '.join(map(_plain, cells))} |")
        lines.append("")
    return "\n".join(lines)


def index_markdown(entries: Sequence[SourceEntry]) -> str:
    """The text of all sources."""
    lines = ["# Sources", ""]
    for entry in entries:
        lines += [
            f"- [{_plain(entry.name)}]({entry.file}.md): {entry.about}",
            *([f"  {_plain(entry.description)}"] if entry.description else []),
        ]
    return "\n".join([*lines, ""])


def _plain(text: str) -> str:
    """A text that Markdown shows as it is."""
    return re.sub(r"([\\`*_{}\[\]<>#|])", r"\\\1", " ".join(text.split()))


def _code(text: str) -> str:
    fence = "`" * (max((len(one) for one in re.findall("`+", text)), default=0) + 1)
    return f"{fence} {' '.join(text.split())} {fence}"


def files(entries: Sequence[SourceEntry], kinds: Sequence[str]) -> Mapping[str, str]:
    """The files of a dictionary by name: pages (`html`), texts (`markdown`), or both."""
    made: dict[str, str] = {}
    if "html" in kinds:
        made["index.html"] = index_html(entries)
        made |= {f"{entry.file}.html": source_html(entry) for entry in entries}
    if "markdown" in kinds:
        made["index.md"] = index_markdown(entries)
        made |= {f"{entry.file}.md": source_markdown(entry) for entry in entries}
    return made
