"""Which table of characters a text file is written in: by its mark, by being UTF-8, else by the letters that languages have."""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from oak_ledger.errors import OakError, UnusableInput

_MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))
_RUSSIAN = "абвгдеёжзийклмнопрстуфхцчшщъыьэюя"
_UKRAINIAN = "абвгґдеєжзиіїйклмнопрстуфхцчшщьюя"
_WESTERN = ("äöüß", "àâæçéèêëîïôœùûüÿ", "áéíñóúü", "áâãàçéêíóôõúü", "àèéìíîòóùú", "åäöé", "æøåé", "éëïóöüèê", "áðéíóúýþæö", "àçèéíïòóúü")  # fmt: skip
_CENTRAL = ("ąćęłńóśźż", "áčďéěíňóřšťúůýž", "áäčďéíĺľňóôŕšťúýž", "áéíóöőúüű", "ăâîşţ", "čćđšž")
# The letters beyond a to z of the languages that are written in each table; of tables that fit alike, the first one is taken.
_LETTERS: Mapping[str, tuple[str, ...]] = {
    "cp1252": _WESTERN,
    "cp1250": _CENTRAL,
    "cp1251": (_RUSSIAN, _UKRAINIAN, _RUSSIAN + "ђјљњћџ"),
    "cp1253": ("αβγδεζηθικλμνξοπρσςτυφχψωάέήίόύώϊϋΐΰ",),
    "cp1254": ("çğıöşüâi\u0307",),
    "cp1257": ("ąčęėįšųūž", "āčēģīķļņšūž", "äõöüšž"),
    "koi8-u": (_RUSSIAN, _UKRAINIAN),
    "iso8859-2": _CENTRAL,
    "cp866": (_RUSSIAN,),
    "cp850": _WESTERN,
    "mac-roman": _WESTERN,
}
_SIGNS = "“”‘’‚„«»‹›–—…•€£¥°§·²³½¼¾×±µ№©®™ªº¿¡\u00a0"
# Tables with characters of two bytes: the first and last pair of the characters that are common.
_PAIRS: Mapping[str, tuple[tuple[int, int], ...]] = {
    "shift_jis": ((0x8140, 0x84BE), (0x889F, 0x9872)),
    "gb18030": ((0xA1A1, 0xA3FE), (0xB0A1, 0xD7F9)),
    "euc_kr": ((0xA1A1, 0xA3FE), (0xB0A1, 0xC8FE)),
    "big5": ((0xA140, 0xA3BF), (0xA440, 0xC67E)),
    "euc_jp": ((0xA1A1, 0xA5F6), (0xB0A1, 0xCFD3)),
}
_FEW = 4  # characters of which so few prove nothing
_POOR = 0.5  # a share of characters from which on a table fits at all


@dataclass(frozen=True, slots=True)
class _Fit:
    """How well a table fits: the share of characters beyond ASCII that make sense, how many there are, and the text."""

    encoding: str
    share: float
    count: int
    text: str

    @property
    def words(self) -> list[str]:
        """The words with such characters, each once."""
        return [*dict.fromkeys(re.findall(r"[^\W\d_]*[^\x00-\x7f][^\W\d_]*", self.text))]


def encoding_of(path: Path, head: bytes) -> tuple[str, str]:
    """The table of characters that a file's beginning is written in, and why. Raises UnusableInput where none fits, or it is not text."""
    for mark, name in _MARKS:
        if head.startswith(mark):
            return name, "the file begins with its mark"
    odd, even = head[1::2].count(0), head[::2].count(0)
    if odd + even > len(head) // 4 and min(odd, even) == 0:
        return ("utf-16-le" if odd else "utf-16-be"), "every other byte is zero"
    if odd + even > len(head) // 100:
        at = head.index(b"\x00")
        hint = "Give a delimited text file; a workbook ends in .xlsx or .ods, an archive has to be unpacked first."
        line = head.count(b"\n", 0, at) + 1
        message = f"{path} is not a text file: byte {at + 1} is zero, in line {line}."
        raise UnusableInput("not-text", message, hint=hint)
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
    except UnicodeDecodeError as error:
        return _by_letters(path, head, error.start)
    return "utf-8", "every byte looked at is UTF-8"


def decoded(head: bytes, encoding: str) -> str:
    """The beginning of a file as text; bytes that do not fit are reported when their row is read."""
    try:
        return codecs.getincrementaldecoder(encoding)("replace").decode(head)
    except LookupError:
        hint = "Try utf-8, utf-16 or cp1252."
        raise OakError("unknown-encoding", f"There is no encoding {encoding!r}.", hint=hint) from None


def _by_letters(path: Path, head: bytes, at: int) -> tuple[str, str]:
    mostly = codecs.getincrementaldecoder("utf-8")("replace").decode(head)
    wrong, right = mostly.count("\ufffd"), sum(ord(one) > 127 for one in mostly)
    line = head.count(b"\n", 0, at) + 1
    if right - wrong > 10 * wrong:
        return "utf-8", f"nearly all is UTF-8; byte {at + 1}, in line {line}, is not"
    fits = sorted([*_single(head), *_double(head)], key=lambda fit: -fit.share)
    best = fits[0] if fits else _Fit("", 0.0, 0, "")
    if best.share < _POOR:
        shown = f"; as {best.encoding} it would read {best.words[0]!r}" if best.words else ""
        message = f"{path.name} is not UTF-8 (byte {at + 1}, in line {line}), and no other encoding fits{shown}."
        raise UnusableInput("which-encoding", message, hint="Say which it is: --encoding cp1252, for example.")
    why = f"byte {at + 1} is not UTF-8; so it reads {_listed(best)}"
    other = next((fit for fit in fits[1:] if fit.words[:3] != best.words[:3] and best.share - fit.share < 0.1), None)
    if other is not None:
        return best.encoding, f"{why}; a guess, as {other.encoding} it would read {_listed(other)}"
    return best.encoding, f"{why}; a guess from few letters" if best.count < _FEW else why


def _listed(fit: _Fit) -> str:
    return ", ".join(repr(word) for word in fit.words[:3]) or repr(next(one for one in fit.text if ord(one) > 127))


def _single(head: bytes) -> Iterator[_Fit]:
    """How well each table of single bytes fits, by the language that fits best."""
    for encoding, languages in _LETTERS.items():
        try:
            text = head.decode(encoding)
        except UnicodeDecodeError:
            continue
        beyond = sum(ord(one) > 127 for one in text)
        signs = sum(text.count(sign) for sign in _SIGNS) - len(
            re.findall(rf"(?<=[^\W\d_])[{_SIGNS[10:]}](?=[^\W\d_])", text)
        )
        words = [word for word in re.findall(r"[^\W\d_]+", text) if not word.isascii() and _one_script(word)]
        most = max(
            sum(one in letters for word in words for one in word.lower() if ord(one) > 127) for letters in languages
        )
        yield _Fit(encoding, min((most + signs) / beyond, 1.0), beyond, text)


def _one_script(word: str) -> bool:
    """Whether a word is in small letters, in capitals, or begins with one, and mixes no Latin letters with others."""
    whole = word.islower() or word.isupper() or word[1:].islower() or not word[1:]
    latin = [one < "\u0250" for one in word]
    return whole and (all(latin) or not any(latin))


def _double(head: bytes) -> Iterator[_Fit]:
    """How well each table of byte pairs fits: by the share of characters that are common in it."""
    for encoding, common in _PAIRS.items():
        try:
            text = codecs.getincrementaldecoder(encoding)().decode(head)
        except UnicodeDecodeError:
            continue
        beyond = [one for one in text if ord(one) > 127]
        pairs = [int.from_bytes(one.encode(encoding), "big") for one in beyond]
        good = sum(any(first <= pair <= last for first, last in common) for pair in pairs)
        good -= len(
            re.findall(r"(?<=[a-z])[^\x00-\x7f]|[^\x00-\x7f](?=[a-z])", text)
        )  # no such text is in the middle of Latin words
        share = good / max(len(beyond), 1)
        if encoding == "euc_kr" and len(beyond) < 2 * _FEW:
            share -= 0.05  # a few characters of Chinese fit as well
        if encoding == "euc_kr" and share == 1.0:
            share += 0.01
        yield _Fit(encoding, share, len(beyond), text)
