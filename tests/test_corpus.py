"""Small nasty files, each with what must come out: names, values with their types, what is said; or the refusal with its place.

Values are compared with their types: a decimal is not a float, a date no text. A text in place of the values is the refusal: its code, and
words that it must have.
"""

from __future__ import annotations

import bz2
import datetime as dt
import gzip
import lzma
import os
import sqlite3
import time
import unittest
from pathlib import Path
from typing import Any

import openpyxl

import oak_ledger as oak
from tests.support import D, FolderCase

Wanted = dict[str, list[Any]] | str
# What the case is about, the file, what must come out, and words that intake must say.
Case = tuple[str, str | bytes, Wanted, tuple[str, ...]]


def day(text: str) -> dt.date:
    """A date by its standard writing."""
    return dt.date.fromisoformat(text)


def at(text: str) -> dt.datetime:
    """A moment by its standard writing."""
    return dt.datetime.fromisoformat(text)


QUOTES: list[Case] = [
    ("an apostrophe begins names of towns", "Town,Loads\n's-Graven,3\n't Veld,4\nOak's End,5\n", {"Town": ["'s-Graven", "'t Veld", "Oak's End"], "Loads": [3, 4, 5]}, ()),
    ("apostrophes end words", "Mill,Loads\nThe Mills',3\nAsh',4\n", {"Mill": ["The Mills'", "Ash'"], "Loads": [3, 4]}, ()),
    ("apostrophes begin and end, in two columns", "A,B\n'twas,the mills'\n'tis,ends'\n", {"A": ["'twas", "'tis"], "B": ["the mills'", "ends'"]}, ()),
    ("single quotes enclose whole values", "Mill,Loads\n'Low, Weir',3\n'Ash',4\n'Elm''s',5\n", {"Mill": ["Low, Weir", "Ash", "Elm's"], "Loads": [3, 4, 5]}, ("quote '",)),
    ("single quotes around each value", "'Mill','Loads'\n'Low','3'\n'Ash','4'\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("quote '",)),
    ("a quote never closed, left out", 'A,B\n1,x\n2,"y\n3,z\n"4",v\n"5",w\n', {"A": [1, 3, 4, 5], "B": ["x", "z", "v", "w"]}, ("1 row was left out, first t.csv line 3",)),
    ("quotes never closed, left out", 'A,B\n1,"x"\n2,"y\n3,z\n4,"v\n5,"w, w"\n', {"A": [1, 3, 5], "B": ["x", "z", "w, w"]}, ("2 rows were left out, first t.csv line 3",)),
    ("inches inside values", 'Pipe,Loads\n5" steel,3\n12" oak,4\n', {"Pipe": ['5" steel', '12" oak'], "Loads": [3, 4]}, ("quote none",)),
    ("inches at the end of values", 'Pipe;Loads\nsteel 5";3\noak 12";4\n', {"Pipe": ['steel 5"', 'oak 12"'], "Loads": [3, 4]}, ("quote none",)),
    ("a quoted nickname at the beginning of a value", 'Name,Loads\n"Red" Alder,3\nAsh,4\n', {"Name": ['"Red" Alder', "Ash"], "Loads": [3, 4]}, ("quote none",)),
    ("a quote never closed names its line", 'A,B\n1,x\n2,"y\n3,z\n"4",v\n"5",w\n', "bad-row: line 3", ()),
    ("a quote never closed, to the end", 'A,B\n1,"x"\n2,"y\n3,z\n4,v\n', "bad-row: line 3: a quote that begins here is never closed", ()),
    ("backslashes before quotes", 'A,B\n1,"a \\"b\\" c"\n2,"d, \\"e\\""\n3,"f"\n', {"A": [1, 2, 3], "B": ['a "b" c', 'd, "e"', "f"]}, ("escape \\",)),
    ("a backslash alone is a character", 'A,B\n1,"C:\\mills"\n2,"D:\\"\n', {"A": [1, 2], "B": ["C:\\mills", "D:\\"]}, ()),
    ("spaces before quotes", 'A, B, C\n1, "x, y", 2\n3, "z", 4\n', {"A": [1, 3], "B": ["x, y", "z"], "C": [2, 4]}, ("spaces",)),
    ("spaces without quotes", "A, B\n1, x\n3, z\n", {"A": [1, 3], "B": [" x", " z"]}, ()),
    ("doubled quotes", 'A,B\n1,"a ""b"" c"\n2,""\n3,"\n"\n', {"A": [1, 2, 3], "B": ['a "b" c', "", "\n"]}, ()),
    ("a line end in a quoted value, and a title", 'Loads of June\n\nA;B\n1;"x\ny"\n2;z\n', {"A": [1, 2], "B": ["x\ny", "z"]}, ("title",)),
    ("a separator inside quotes decides nothing", 'A;B\n"1,5,2,3";x\n"2,5,1,1";y\n', {"A": ["1,5,2,3", "2,5,1,1"], "B": ["x", "y"]}, ("semicolon",)),
]  # fmt: skip

HEADERS: list[Case] = [
    ("an unnamed first column that counts", ",Mill,Loads\n0,Low,3\n1,Ash,4\n", {"Column 1": [0, 1], "Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("Column 1",)),
    ("an unnamed column in the middle", "Mill,,Loads\nLow,x,3\nAsh,y,4\n", {"Mill": ["Low", "Ash"], "Column 2": ["x", "y"], "Loads": [3, 4]}, ("Column 2",)),
    ("two columns of one name", "Mill,Loads,Loads\nLow,3,5\nAsh,4,6\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4], "Loads 2": [5, 6]}, ("Loads 2",)),
    ("a name repeated, and its next name taken", "Loads,Loads,Loads 2\n3,5,1\n4,6,2\n", {"Loads": [3, 4], "Loads 3": [5, 6], "Loads 2": [1, 2]}, ("Loads 3",)),
    ("a separator at the end of each line", "Mill,Loads,\nLow,3,\nAsh,4,\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("no name and no value",)),
    ("a separator at the end of the header alone", "Mill,Loads,\nLow,3\nAsh,4\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("separator at the end",)),
    ("a separator at the end of the rows alone", "Mill,Loads\nLow,3,\nAsh,4,\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("no name and no value",)),
    ("row numbers without a place in the header", "Mill,Loads\n1,Low,3\n2,Ash,4\n", {"Column 1": [1, 2], "Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("Column 1",)),
    ("names that are years", "Mill,2024,2025\nLow,30,41\nAsh,40,52\n", {"Mill": ["Low", "Ash"], "2024": [30, 40], "2025": [41, 52]}, ("years",)),
    ("names that are months", "Mill,2025-01,2025-02\nLow,30,41\nAsh,40,52\n", {"Mill": ["Low", "Ash"], "2025-01": [30, 40], "2025-02": [41, 52]}, ()),
    ("names that are dates", "Mill,01.02.2025,01.03.2025\nLow,30,41\nAsh,40,52\n", {"Mill": ["Low", "Ash"], "01.02.2025": [30, 40], "01.03.2025": [41, 52]}, ()),
    ("no header: numbers stand over numbers", "Low,3\nAsh,4\nElm,5\n", {"Column 1": ["Low", "Ash", "Elm"], "Column 2": [3, 4, 5]}, ("header none",)),
    ("no header: the first row comes again", "oak,Low\nash,High\noak,Low\noak,High\n", {"Column 1": ["oak", "ash", "oak", "oak"], "Column 2": ["Low", "High", "Low", "High"]}, ("header none",)),
    ("no header: dates stand over dates", "Low,2026-03-01\nAsh,2026-03-02\n", {"Column 1": ["Low", "Ash"], "Column 2": [day("2026-03-01"), day("2026-03-02")]}, ("header none",)),
    ("no header: a first row with a gap", "Low,,3\nAsh,x,4\nElm,y,5\n", {"Column 1": ["Low", "Ash", "Elm"], "Column 2": [None, "x", "y"], "Column 3": [3, 4, 5]}, ("header none",)),
    ("only numbers", "1,2\n3,4\n", {"Column 1": [1, 3], "Column 2": [2, 4]}, ("header none",)),
    ("all texts, all names differ", "Mill,Wood\nLow,oak\nAsh,elm\n", {"Mill": ["Low", "Ash"], "Wood": ["oak", "elm"]}, ("header first",)),
    ("names over a column of nulls", "Mill,Loads\n,\n,\n", {"Mill": [None, None], "Loads": [None, None]}, ()),
    ("two rows of names", ",2025,,2026,\nMill,Loads,Cost,Loads,Cost\nLow,1,2,3,4\nAsh,5,6,7,8\n", {"Mill": ["Low", "Ash"], "2025 Loads": [1, 5], "2025 Cost": [2, 6], "2026 Loads": [3, 7], "2026 Cost": [4, 8]}, ("two rows",)),
    ("two rows of names, both of texts", "Place,Place,Wood,Wood\nMill,Town,Kind,Volume\nLow,Ford,oak,1.5\nAsh,Weir,elm,2.5\n", {"Place Mill": ["Low", "Ash"], "Place Town": ["Ford", "Weir"], "Wood Kind": ["oak", "elm"], "Wood Volume": [D("1.5"), D("2.5")]}, ("two rows",)),
    ("a title of one line", "Loads of the mills\nMill,Loads\nLow,3\nAsh,4\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("title",)),
    ("a title padded with separators", "Loads of the mills,,\n,,\nMill,Wood,Loads\nLow,oak,3\nAsh,elm,4\n", {"Mill": ["Low", "Ash"], "Wood": ["oak", "elm"], "Loads": [3, 4]}, ("title",)),
    ("a title and facts", "Report;Loads\nMade;2026-01-01\n\nMill;Wood;Loads\nLow;oak;3\nAsh;elm;4\n", {"Mill": ["Low", "Ash"], "Wood": ["oak", "elm"], "Loads": [3, 4]}, ("title",)),
    ("line breaks in names", 'Mill,"Loads\n(t)"\nLow,3\nAsh,4\n', {"Mill": ["Low", "Ash"], "Loads (t)": [3, 4]}, ()),
    ("spaces around names", " Mill , Loads \nLow,3\n", {"Mill": ["Low"], "Loads": [3]}, ()),
    ("a header alone", "Mill,Loads\n", {"Mill": [], "Loads": []}, ()),
    ("names that differ by letter case", "mill,Mill\nLow,3\nAsh,4\n", {"Mill": ["Low", "Ash"], "Mill 2": [3, 4]}, ()),
    ("codes for names", "A1,A2\n3,x\n4,y\n", {"A1": [3, 4], "A2": ["x", "y"]}, ()),
    ("one row of texts and one of numbers", "a,b\n1,2\n", {"A": [1], "B": [2]}, ()),
    ("a number among names", "Mill,7,Loads\nLow,x,3\nAsh,y,4\n", {"Mill": ["Low", "Ash"], "7": ["x", "y"], "Loads": [3, 4]}, ()),
]  # fmt: skip

ENCODINGS: list[Case] = [
    ("western letters", "Mill,N\nMühle Großau,1\nÉcluse,2\n".encode("cp1252"), {"Mill": ["Mühle Großau", "Écluse"], "N": [1, 2]}, ("cp1252", "Mühle")),
    ("western quotes and euro", "Mill,N\n“Weir” – 5 €,1\nÅsen,2\n".encode("cp1252"), {"Mill": ["“Weir” – 5 €", "Åsen"], "N": [1, 2]}, ("cp1252",)),
    ("one accent", "Mill,N\nCafé,1\nOak,2\n".encode("cp1252"), {"Mill": ["Café", "Oak"], "N": [1, 2]}, ("cp1252", "Café", "guess")),
    ("Spanish", "Mill,N\nPeña Ancón,1\nAño,2\n".encode("cp1252"), {"Mill": ["Peña Ancón", "Año"], "N": [1, 2]}, ("cp1252",)),
    ("Nordic", "Mill,N\nSjøåsen,1\nÆrøbro,2\nÖrby,3\n".encode("cp1252"), {"Mill": ["Sjøåsen", "Ærøbro", "Örby"], "N": [1, 2, 3]}, ("cp1252",)),
    ("Polish", "Młyn,N\nŁąka Żółta,1\nświerk,2\nbrzęczyń,3\n".encode("cp1250"), {"Młyn": ["Łąka Żółta", "świerk", "brzęczyń"], "N": [1, 2, 3]}, ("cp1250",)),
    ("Czech", "Mlýn,N\nDřevařský ráj,1\nPlzeň,2\nŽďár,3\n".encode("cp1250"), {"Mlýn": ["Dřevařský ráj", "Plzeň", "Žďár"], "N": [1, 2, 3]}, ("cp1250",)),
    ("Hungarian", "Malom,N\nErdőtelek,1\nFűzfő,2\nTölgyes,3\n".encode("cp1250"), {"Malom": ["Erdőtelek", "Fűzfő", "Tölgyes"], "N": [1, 2, 3]}, ("cp1250",)),
    ("Russian", "Мельница,N\nБерёза и сосна,1\nДубовая роща,2\n".encode("cp1251"), {"Мельница": ["Берёза и сосна", "Дубовая роща"], "N": [1, 2]}, ("cp1251",)),
    ("Russian, the other table", "Мельница,N\nБерёза и сосна,1\nДубовая роща,2\n".encode("koi8-r"), {"Мельница": ["Берёза и сосна", "Дубовая роща"], "N": [1, 2]}, ("koi8",)),
    ("Greek", "Μύλος,N\nΒελανιδιά μεγάλη,1\nΔάσος,2\n".encode("cp1253"), {"Μύλος": ["Βελανιδιά μεγάλη", "Δάσος"], "N": [1, 2]}, ("cp1253",)),
    ("Turkish", "Değirmen,N\nMeşe Ağacı,1\nGürgen,2\nKayın İşliği,3\n".encode("cp1254"), {"Değirmen": ["Meşe Ağacı", "Gürgen", "Kayın İşliği"], "N": [1, 2, 3]}, ("cp1254",)),
    ("Japanese", "製材所,N\n東の森の工場,1\nカシの木,2\n".encode("shift_jis"), {"製材所": ["東の森の工場", "カシの木"], "N": [1, 2]}, ("shift_jis",)),
    ("Chinese", "工厂,N\n橡树林木材厂,1\n松木和杉木,2\n".encode("gbk"), {"工厂": ["橡树林木材厂", "松木和杉木"], "N": [1, 2]}, ("gb",)),
    ("Chinese, the other table", "名稱,N\n橡樹木材廠的貨物,1\n松樹林,2\n".encode("big5"), {"名稱": ["橡樹木材廠的貨物", "松樹林"], "N": [1, 2]}, ("big5",)),
    ("Korean", "이름,N\n참나무 목재 공장,1\n소나무 숲,2\n".encode("euc_kr"), {"이름": ["참나무 목재 공장", "소나무 숲"], "N": [1, 2]}, ("euc_kr",)),
    ("Japanese, the other table", "名前,N\n東の森の工場です,1\nカシの木,2\n".encode("euc_jp"), {"名前": ["東の森の工場です", "カシの木"], "N": [1, 2]}, ("euc_jp",)),
    ("Russian, of old machines", "Мельница,N\nБерёза и сосна,1\nДубовая роща,2\n".encode("cp866"), {"Мельница": ["Берёза и сосна", "Дубовая роща"], "N": [1, 2]}, ("cp866",)),
    ("Polish, the other table", "Młyn,N\nŁąka Żółta śliczna,1\nświerk źródło,2\n".encode("iso8859-2"), {"Młyn": ["Łąka Żółta śliczna", "świerk źródło"], "N": [1, 2]}, ("iso8859-2",)),
    ("Lithuanian", "Malūnas,N\nąžuolas šešėlis,1\nėglė,2\n".encode("cp1257"), {"Malūnas": ["ąžuolas šešėlis", "ėglė"], "N": [1, 2]}, ("cp1257",)),
    ("western letters, of other machines", "Mill,N\nMühle Größe,1\nÉcole,2\n".encode("mac-roman"), {"Mill": ["Mühle Größe", "École"], "N": [1, 2]}, ("mac-roman",)),
    ("western letters, of old machines", "Mill,N\nMühle Größe,1\nÉcole,2\n".encode("cp850"), {"Mill": ["Mühle Größe", "École"], "N": [1, 2]}, ("cp850",)),
    ("signs only", "Mill,N\n20 °C,1\n“x” – 5 €,2\n".encode("cp1252"), {"Mill": ["20 °C", "“x” – 5 €"], "N": [1, 2]}, ("cp1252",)),
    ("UTF-8 with one wrong byte", b"Mill,N\n" + "Mühle,1\n".encode() * 30 + b"M\xfchle,2\n", "wrong-encoding: line 32: byte 2 is not utf-8", ()),
    ("a mark of UTF-8", b"\xef\xbb\xbfMill,N\nM\xc3\xbchle,1\n", {"Mill": ["Mühle"], "N": [1]}, ("mark",)),
    ("UTF-16 with a mark", "\ufeffMill,N\nMühle,1\n".encode("utf-16-le"), {"Mill": ["Mühle"], "N": [1]}, ("mark",)),
    ("UTF-16 the other way", "\ufeffMill,N\nMühle,1\n".encode("utf-16-be"), {"Mill": ["Mühle"], "N": [1]}, ("mark",)),
    ("UTF-16 without one", "Mill,N\nLow Weir,1\n".encode("utf-16-le"), {"Mill": ["Low Weir"], "N": [1]}, ("zero",)),
    ("lines that end in returns", b"Mill,N\rLow,1\rAsh,2\r", {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
    ("lines that end in returns, quoted", b'Mill,N\r"Low, Weir",1\rAsh,2', {"Mill": ["Low, Weir", "Ash"], "N": [1, 2]}, ()),
    ("a zero byte names its line", b"Mill,N\nLow,1\nA\x00sh,2\n" + b"Elm,3\n" * 60, "bad-row: line 3: character 2 is a zero byte", ()),
    ("an archive under another name", b"PK\x03\x04\x14\x00\x00\x00\x08\x00abc", "not-text: byte 6 is zero", ()),
    ("nothing", b"", "empty-file: is empty", ()),
    ("blanks", b" \n\r\n \n", "empty-file: is empty", ()),
    ("a mark alone", b"\xef\xbb\xbf", "empty-file: is empty", ()),
]  # fmt: skip

FOOTERS: list[Case] = [
    ("a total", "Mill,Loads\nLow,3\nAsh,4\nTotal,7\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("footer 1", "Total")),
    ("a padded total", "Mill,Wood,Loads\nLow,oak,3\nAsh,elm,4\nTotal,,7\n,,\n", {"Mill": ["Low", "Ash"], "Wood": ["oak", "elm"], "Loads": [3, 4]}, ("footer 2", "Total")),
    ("totals of several lines", "Mill,Loads\nLow,3\nAsh,4\n\nSubtotal,7\nGrand total,7\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("footer", "Subtotal")),
    ("how many rows", "Mill,Loads\nLow,3\nAsh,4\n(2 rows)\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("footer 1",)),
    ("a note", "Mill,Loads\nLow,3\nAsh,4\nEnd of report\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("footer 1",)),
    ("a total in another language", "Mill;Loads\nLow;3\nAsh;4\nSumme;7\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("footer 1", "Summe")),
    ("a mill called so is a row", "Mill,Loads\nLow,3\nTotal Timber,4\nAsh,5\n", {"Mill": ["Low", "Total Timber", "Ash"], "Loads": [3, 4, 5]}, ()),
    ("a last row of a mill called so", "Mill,Loads\nLow,3\nCounty Mill,5\n", {"Mill": ["Low", "County Mill"], "Loads": [3, 5]}, ()),
    ("a total that is not first", "Mill,Wood,Loads\nLow,oak,3\nAsh,elm,4\n,Total,7\n", {"Mill": ["Low", "Ash"], "Wood": ["oak", "elm"], "Loads": [3, 4]}, ("footer 1",)),
    ("a rule before the total", "Mill,Loads\nLow,3\nAsh,4\n-----,-----\nTotal,7\n", {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("footer 2",)),
]  # fmt: skip


def mixed(*values: str) -> str:
    """A file of tabs, of a column that counts and of the values."""
    return "N\tX\n" + "".join(f"{at}\t{value}\n" for at, value in enumerate(values, 1))


def quoted(*values: str) -> str:
    """A file of commas, the values in quotes."""
    return "N,X\n" + "".join(f'{at},"{value}"\n' for at, value in enumerate(values, 1))


def semicolons(*values: str) -> str:
    """A file of semicolons."""
    return "N;X\n" + "".join(f"{at};{value}\n" for at, value in enumerate(values, 1))


# The file, the values of X as they must come out, words that must be said.
VALUES: list[tuple[str, str, list[Any], tuple[str, ...]]] = [
    ("thousands: quoted where commas separate", quoted("1,234", "5,678"), [1234, 5678], ("thousands marks: commas",)),
    ("thousands: small ones are there too", mixed("1,234", "567", "12"), [1234, 567, 12], ("thousands marks: commas",)),
    ("thousands: groups of three", mixed("1,234,567", "5,678"), [1234567, 5678], ("thousands marks: commas",)),
    ("thousands: both marks", mixed("1,234.50", "5,678", "2.25"), [D("1234.50"), D("5678.00"), D("2.25")], ("decimal point", "thousands marks")),
    ("thousands: one with a point beside", quoted("1,234", "2.5"), [D("1234.0"), D("2.5")], ("thousands marks",)),
    ("decimals: a zero comes first", mixed("0,500", "1,250"), [D("0.500"), D("1.250")], ("decimal comma",)),
    ("decimals: not always three places", mixed("1,25", "1,250"), [D("1.250"), D("1.250")], ("decimal comma",)),
    ("decimals: long ones without a mark", mixed("1,250", "12500"), [D("1.250"), D("12500.000")], ("decimal comma",)),
    ("open: nothing shows", mixed("1,234", "5,678"), ["1,234", "5,678"], ("1,234 may be 1234 or 1.234", "All together 6 912 or 6.912", "oak field retype t X integer --thousands-mark ,", "'decimal(18,3)' --decimal-mark ,")),
    ("open: points where semicolons separate", semicolons("1.234", "5.678"), ["1.234", "5.678"], ("1.234 may be 1234 or 1.234", "--thousands-mark . --decimal-mark ,")),
    ("points: programs write them", mixed("1.234", "5.678"), [D("1.234"), D("5.678")], ("decimal point",)),
    ("points between thousands", semicolons("1.234.567", "2.345"), [1234567, 2345], ("thousands marks: points",)),
    ("points between thousands, small ones too", semicolons("1.234", "7"), [1234, 7], ("thousands marks: points",)),
    ("points between thousands and a decimal comma", semicolons("1.234,50", "7,25"), [D("1234.50"), D("7.25")], ("decimal comma",)),
    ("Indian groups", quoted("12,34,567", "1,23,456.50"), [D("1234567.00"), D("123456.50")], ("thousands marks",)),
    ("apostrophes", mixed("1'234.50", "12"), [D("1234.50"), D("12.00")], ("apostrophes",)),
    ("other apostrophes", mixed("1’234", "1’234’567"), [1234, 1234567], ("apostrophes",)),
    ("spaces", semicolons("1 234,50", "12 345 678,00", "5"), [D("1234.50"), D("12345678.00"), D("5.00")], ("spaces",)),
    ("thin spaces", semicolons("1\u202f234,50", "12\u2009345,00"), [D("1234.50"), D("12345.00")], ("spaces",)),
    ("spaces that do not break", mixed("1\u00a0234.50", "5"), [D("1234.50"), D("5.00")], ("spaces",)),
    ("a minus behind", mixed("12.50-", "3.00", "1,000.00-"), [D("-12.50"), D("3.00"), D("-1000.00")], ("minus behind",)),
    ("parentheses", mixed("(12.50)", "3.00", "(1,000.25)"), [D("-12.50"), D("3.00"), D("-1000.25")], ("parentheses",)),
    ("parentheses with a decimal comma", semicolons("(12,5)", "1.003,25"), [D("-12.50"), D("1003.25")], ("parentheses",)),
    ("another minus sign", mixed("\u221212.5", "3.5"), [D("-12.5"), D("3.5")], ()),
    ("a plus before numbers", mixed("+4", "-3", "1"), [4, -3, 1], ("whole numbers",)),
    ("a currency behind", mixed("12.50 EUR", "-3.00 EUR", "1,000.00 EUR"), [D("12.50"), D("-3.00"), D("1000.00")], ("EUR",)),
    ("a currency before", mixed("€12.50", "-€3.00", "€ 1,000.00"), [D("12.50"), D("-3.00"), D("1000.00")], ("€",)),
    ("currency in parentheses", mixed("$12.50", "($3.00)", "$1,000.25"), [D("12.50"), D("-3.00"), D("1000.25")], ("$",)),
    ("a currency and a decimal comma", semicolons("12,50 €", "1.000,25 €", "-3,00 €"), [D("12.50"), D("1000.25"), D("-3.00")], ("decimal mark ,",)),
    ("several currencies are told", mixed("12.50 EUR", "3.00 USD"), [D("12.50"), D("3.00")], ("different currencies",)),
    ("codes with an E", mixed("12E4", "13E5", "77E9"), ["12E4", "13E5", "77E9"], ("codes such as 12E4",)),
    ("codes, some with an E", mixed("1234", "12E4", "5678"), ["1234", "12E4", "5678"], ("codes such as 12E4",)),
    ("exponents", mixed("1.5E+03", "2.5e-2", "7"), [1500.0, 0.025, 7.0], ("exponents",)),
    ("phone numbers", mixed("+4930123456", "+43112345678"), ["+4930123456", "+43112345678"], ("phone",)),
    ("leading zeros", mixed("0012", "0345"), ["0012", "0345"], ("leading zeros",)),
    ("more than 38 digits", mixed("1" * 45, "2"), ["1" * 45, "2"], ("45 digits",)),
    ("38 digits", mixed("1" * 37, "2"), [D("1" * 37), D("2")], ()),
    ("long before the mark, and long behind it", mixed("10079.02674", "779.12345678901234"), [D("10079.02674000000000"), D("779.12345678901234")], ()),
    ("long before the mark, short behind it", mixed("123456789012.5", "1.123456789"), [D("123456789012.500000000"), D("1.123456789")], ()),
    ("decimals of a float", mixed("0.1234567890123", "2.5"), [0.1234567890123, 2.5], ()),
    ("decimals that a float would change", mixed("0.1234567890123456789", "2.5"), [D("0.1234567890123456789"), D("2.5000000000000000000")], ()),
    ("more decimals than stay exact", mixed("0." + "1234567890" * 3, "2.5"), ["0." + "1234567890" * 3, "2.5"], ("would not stay exact",)),
    ("words for nothing among numbers", mixed(*["1", "2"] * 98, *["nil"] * 4), ["1", "2"] * 98 + ["nil"] * 4, ("98 % whole numbers; not: nil × 4", "oak field retype t X integer --null-word nil")),
    ("points for nothing", mixed(*["1.5", "2"] * 49, ".", "."), ["1.5", "2"] * 49 + [".", "."], ("98 % numbers; not: . × 2",)),
    ("known words for nothing", mixed("1", "n/a", "3", "-"), [1, None, 3, None], ()),
    ("moments in universal time", mixed("2026-01-31T10:20:30Z", "2026-02-01T00:00:00Z"), [at("2026-01-31 10:20:30"), at("2026-02-01")], ("universal time",)),
    ("moments with parts of seconds", mixed("2026-01-31T10:20:30.25Z", "2026-02-01T00:00:00Z"), [at("2026-01-31 10:20:30.250"), at("2026-02-01")], ()),
    ("moments with one offset", mixed("2026-01-31T10:20:30+02:00", "2026-02-01 00:00:00+02:00"), [at("2026-01-31 10:20:30"), at("2026-02-01")], ("offset +02:00",)),
    ("moments with several offsets", mixed("2026-01-31T10:20:30+01:00", "2026-07-01T00:00:00+02:00"), ["2026-01-31T10:20:30+01:00", "2026-07-01T00:00:00+02:00"], ("different offsets",)),
    ("the last day", mixed("2026-01-31", "9999-12-31"), [day("2026-01-31"), day("9999-12-31")], ()),
    ("the first day", mixed("2026-01-31", "0001-01-01"), [day("2026-01-31"), day("0001-01-01")], ()),
    ("years of two digits", mixed("31/1/85", "1/12/04"), [day("1985-01-31"), day("2004-12-01")], ("70 to 99",)),
    ("years of two digits, months first", mixed("1/31/85", "12/1/04"), [day("1985-01-31"), day("2004-12-01")], ()),
    ("years first and a clock", mixed("2015/01/01 01:00", "2015/12/31 23:59"), [at("2015-01-01 01:00"), at("2015-12-31 23:59")], ()),
    ("months by name", mixed("Jan 1 2000", "Dec 31 2001"), [day("2000-01-01"), day("2001-12-31")], ()),
    ("months by name and a comma", quoted("Jan 1, 2000", "Dec 31, 2001"), [day("2000-01-01"), day("2001-12-31")], ()),
    ("months by their whole name", mixed("1 January 2000", "31 December 2001"), [day("2000-01-01"), day("2001-12-31")], ()),
    ("days, hyphens and months by name", mixed("01-Jan-2000", "31-DEC-2001"), [day("2000-01-01"), day("2001-12-31")], ()),
    ("mornings and afternoons", mixed("1/31/2026 3:05 PM", "12/1/2026 11:00 AM"), [at("2026-01-31 15:05"), at("2026-12-01 11:00")], ()),
    ("days with points and a clock", mixed("31.1.2026 8:05", "1.2.2026 12:00"), [at("2026-01-31 08:05"), at("2026-02-01 12:00")], ()),
    ("an open order of day and month", mixed("01/02/2026", "03/04/2026"), [day("2026-02-01"), day("2026-04-03")], ("no row shows which", "--template MM/DD/YYYY")),
    ("whole numbers are no dates", mixed("20260131", "20260201"), [20260131, 20260201], ("whole numbers",)),
    ("yes and no", mixed("yes", "no"), [True, False], ()),
    ("ones and zeros stay numbers", mixed("1", "0"), [1, 0], ()),
    ("percent", mixed("12%", "7.5 %"), [0.12, 0.075], ("percentages",)),
    ("versions", mixed("1.2.3", "10.0.1"), ["1.2.3", "10.0.1"], ()),
    ("addresses of machines", mixed("10.0.0.1", "192.168.1.20"), ["10.0.0.1", "192.168.1.20"], ()),
    ("times of day", mixed("10:20", "23:59"), ["10:20", "23:59"], ()),
    ("fractions", mixed("1/2", "3/4"), ["1/2", "3/4"], ()),
    ("ranges", mixed("1-2", "3-4"), ["1-2", "3-4"], ()),
    ("hexadecimal", mixed("0x1F", "0x20"), ["0x1F", "0x20"], ()),
    ("infinity is no number", mixed("1.5", "inf"), ["1.5", "inf"], ()),
    ("empty in quotes", 'N,X\n1,""\n2,a\n', ["", "a"], ()),
    ("spaces around", mixed(" 1", "2 "), [1, 2], ()),
]  # fmt: skip


class Corpus(FolderCase):
    """Each case is taken in, asked for all rows, saved and opened again."""

    def took(self, content: str | bytes, name: str = "t.csv", **reading: Any) -> oak.Intake:
        """What intake makes of a file."""
        return oak.intake([self.write(name, content)], definition=self.folder / "t.oak.toml", **reading)

    def proved(self, cases: list[Case], name: str = "t.csv", **reading: Any) -> None:
        for about, content, wanted, said in cases:
            with self.subTest(about):
                if isinstance(wanted, str):
                    code, _, words = wanted.partition(": ")
                    error = self.raises(code, self.took, content, name, **reading)
                    self.assertIn(words, str(error))
                    continue
                found = self.took(content, name, **reading)
                table = found.source.rows(
                    [(one.name, f'"{one.name}"') for one in found.proposals if not one.keys.get("hidden")]
                ).table
                self.assertEqual(table.to_pydict(), wanted)
                for column, values in wanted.items():  # 1, 1.0, True and Decimal("1") are equal and not the same
                    kinds = [type(value) for value in table.column(column).to_pylist()]
                    self.assertEqual(kinds, [type(value) for value in values], column)
                told = " ".join([
                    *(f"{what} {why}" for what, why in found.decisions), *(str(one) for one in found.findings), *(one.evidence.why for one in found.proposals),
                ])  # fmt: skip
                for words in said:
                    self.assertIn(words, told)
                found.save(replace=True)
                again = oak.open_source(self.folder / "t.oak.toml")
                self.assertEqual(again.rows().table, found.source.rows().table)

    def test_quotes(self) -> None:
        for case in QUOTES:
            self.proved([case], bad_rows="drop" if "left out" in case[0] else None)

    def test_headers(self) -> None:
        self.proved(HEADERS)

    def test_encodings(self) -> None:
        self.proved(ENCODINGS)

    def test_values(self) -> None:
        for about, content, values, said in VALUES:
            self.proved([(about, content, {"N": [*range(1, len(values) + 1)], "X": values}, said)])

    def test_suspicions(self) -> None:
        for about, content, words in (
            (
                "seconds",
                "Id,Created\nx,1767225600\ny,1772323200\n",
                "seconds since 1970 (1767225600 would be 2026-01-01 00:00:00)",
            ),
            ("milliseconds", "Id,Sent at\nx,1767225600000\ny,1772323200000\n", "milliseconds since 1970"),
            ("days of sheets", "Id,Day\nx,46023\ny,46024\n", "days as sheets number them (46023 would be 2026-01-01)"),
        ):
            with self.subTest(about):
                self.assertIn(words, " ".join(map(str, self.took(content).findings)))
        self.assertEqual(self.took("Id,Volume\nx,46023\ny,46024\n").findings, ())

    def test_neighbours_decide(self) -> None:
        found = self.took("N\tX\tY\n1\t1,234\t2.5\n2\t5,678\t3.25\n")
        self.assertEqual(found.source.rows(["X"]).table.column(0).to_pylist(), [1234, 5678])
        found = self.took("N\tX\tY\n1\t1,234\t2,5\n2\t5,678\t3,25\n")
        self.assertEqual(found.source.rows(["X"]).table.column(0).to_pylist(), [D("1.234"), D("5.678")])

    def test_the_commands_that_decide_decide(self) -> None:
        self.took(mixed("1,234", "5,678")).save()
        self.oak("field", "retype", "t", "X", "integer", "--thousands-mark", ",")
        self.assertEqual(oak.open_source("t.oak.toml").tally([], ["SUM(X)"]).value(), 6912)
        self.took(mixed(*["1", "2"] * 98, *["nil"] * 4)).save(replace=True)
        self.oak("field", "retype", "t", "X", "integer", "--null-word", "nil")
        self.assertEqual(oak.open_source("t.oak.toml").tally([], ["SUM(X)"]).value(), 294)

    def test_roles(self) -> None:
        found = self.took(
            "Id,Loads 1,Loads 2,Price,Latitude,Town\n"
            + "".join(f"{at},{at * 7 % 11},{at},{at}.5,5{at % 3}.25,T{at}\n" for at in range(1, 9))
        )
        self.assertEqual({one.name: (one.role, one.keys.get("total", "")) for one in found.proposals}, {
            "Id": ("dimension", ""), "Loads 1": ("measure", ""), "Loads 2": ("measure", ""), "Price": ("measure", "average"), "Latitude": ("dimension", ""), "Town": ("dimension", ""),
        })  # fmt: skip

    def test_footers(self) -> None:
        self.proved(FOOTERS)

    def test_footers_given_by_blank_lines(self) -> None:
        found = self.took("Mill,Loads\nLow,3\nAsh,4\nTotal,7\n\n\n")
        self.assertEqual(found.source.origin.footer, 1)
        self.write("t.csv", "Mill,Loads\nLow,3\nAsh,4\nElm,5\nTotal,12\n")
        self.assertEqual(found.source.rows(["Mill"]).table.column(0).to_pylist(), ["Low", "Ash", "Elm"])


# Files by name; what is taken in, and with which keys; all rows as they must come out; what must be said.
MANY: list[tuple[str, dict[str, bytes], list[str], dict[str, Any], Wanted, tuple[str, ...]]] = [
    ("another encoding", {"a.csv": "Mill,N\nMühle,1\n".encode(), "b.csv": "Mill,N\nÉcluse Größe,2\n".encode("cp1252")}, ["*.csv"], {}, {"Mill": ["Mühle", "Écluse Größe"], "N": [1, 2]}, ("b.csv differs from the definition", "cp1252")),
    ("UTF-8 after another", {"a.csv": "Mill,N\nMühle Größe,1\n".encode("cp1252"), "b.csv": "Mill,N\nÉcluse,2\n".encode()}, ["*.csv"], {}, {"Mill": ["Mühle Größe", "Écluse"], "N": [1, 2]}, ("encoding utf-8",)),
    ("a mark in a later file", {"a.csv": b"Mill,N\nLow,1\n", "b.csv": b"\xef\xbb\xbfMill,N\nAsh,2\n"}, ["*.csv"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
    ("another separator", {"a.csv": b"Mill,N\nLow,1\n", "b.csv": b"Mill;N\nAsh;2\n"}, ["*.csv"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ("separator semicolon",)),
    ("a title in a later file", {"a.csv": b"Mill,N\nLow,1\n", "b.csv": b"Loads of June\n\nMill,N\nAsh,2\n"}, ["*.csv"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ("names in line 3",)),
    ("no title in a later file", {"a.csv": b"Loads of May\n\nMill,N\nLow,1\n", "b.csv": b"Mill,N\nAsh,2\n"}, ["*.csv"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ("b.csv differs from the definition",)),
    ("blank lines before the names", {"a.csv": b"Mill,N\nLow,1\n", "b.csv": b"\n\nMill,N\nAsh,2\n"}, ["*.csv"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
    ("another letter case and order", {"a.csv": b"Mill,N\nLow,1\n", "b.csv": b"n,MILL\n2,Ash\n"}, ["*.csv"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
    ("a column more, a column less", {"a.csv": b"Mill,N\nLow,1\n", "b.csv": b"Mill,Wood\nAsh,oak\n"}, ["*.csv"], {}, {"Mill": ["Low", "Ash"], "N": [1, None], "Wood": [None, "oak"]}, ("b.csv has no column N and the extra column Wood",)),
    ("the same month twice", {"a.csv": b"Mill,N\nLow,1\n", "b.csv": b"Mill,N\nLow,1\n"}, ["*.csv"], {}, {"Mill": ["Low", "Low"], "N": [1, 1]}, ("b.csv holds the same as a.csv",)),
    ("compressed beside plain", {"a.csv": b"Mill,N\nLow,1\n", "b.csv.gz": gzip.compress(b"Mill,N\nAsh,2\n")}, ["*.csv*"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
    ("the same, once compressed", {"a.csv": b"Mill,N\nLow,1\n", "b.csv.gz": gzip.compress(b"Mill,N\nLow,1\n")}, ["*.csv*"], {}, {"Mill": ["Low", "Low"], "N": [1, 1]}, ("b.csv.gz holds the same as a.csv",)),
    ("compressed, whatever its name", {"a.csv": gzip.compress(b"Mill,N\nLow,1\n")}, ["a.csv"], {}, {"Mill": ["Low"], "N": [1]}, ()),
    ("a plain file called compressed", {"a.csv.gz": b"Mill,N\nLow,1\n"}, ["a.csv.gz"], {}, {"Mill": ["Low"], "N": [1]}, ()),
    ("compressed and cut off", {"a.csv.gz": gzip.compress(b"Mill,N\nLow,1\n" * 50)[:-12]}, ["a.csv.gz"], {}, "unreadable: is compressed, and damaged or cut off", ()),
    ("compressed and damaged", {"a.csv.gz": b"\x1f\x8b\x08\x00abcdefgh"}, ["a.csv.gz"], {}, "unreadable: damaged", ()),
    ("other compressions", {"a.csv.bz2": bz2.compress(b"Mill,N\nLow,1\n"), "b.csv.xz": lzma.compress(b"Mill,N\nAsh,2\n")}, ["*.csv.*"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
    ("parts of the name", {"l_2026-01.csv": b"Mill\nLow\n", "l_2026-02.csv": b"Mill\nAsh\n"}, ["l_*.csv"], {"name_parts": "l_{Year}-{Month}.csv"}, {"Mill": ["Low", "Ash"], "Year": [2026, 2026], "Month": ["01", "02"]}, ("part Year '2026' in l_2026-01.csv", "part Month '01'")),
    ("parts by width", {"l_202601.csv": b"Mill\nLow\n", "l_202602.csv": b"Mill\nAsh\n"}, ["l_*.csv"], {"name_parts": "l_{Year:4}{Month:2}.csv"}, {"Mill": ["Low", "Ash"], "Year": [2026, 2026], "Month": ["01", "02"]}, ("part Month '01'",)),
    ("parts side by side", {"l_202601.csv": b"Mill\nLow\n"}, ["l_*.csv"], {"name_parts": "l_{Year}{Month}.csv"}, "bad-pattern: nothing shows where {Year} ends", ()),
    ("a part beside anything", {"l_202601.csv": b"Mill\nLow\n"}, ["l_*.csv"], {"name_parts": "l_{Year}*.csv"}, "bad-pattern: nothing shows", ()),
    ("a part of a width before one without", {"l_2026x.csv": b"Mill\nLow\n"}, ["l_*.csv"], {"name_parts": "l_{Year:4}{Rest}.csv"}, {"Mill": ["Low"], "Year": [2026], "Rest": ["x"]}, ()),
    ("a part called as a column", {"l_1.csv": b"Mill\nLow\n"}, ["l_*.csv"], {"name_parts": "l_{mill}.csv"}, "part-taken: mill", ()),
    ("a name that does not read so", {"l_1.csv": b"Mill\nLow\n", "l_x_2.csv": b"Mill\nAsh\n"}, ["l_*.csv"], {"name_parts": "l_{N:1}.csv"}, "name-parts: l_x_2.csv", ()),
    ("files that share no pattern", {"a/x.csv": b"Mill\nLow\n", "b/y.csv": b"Mill\nAsh\n"}, ["a/x.csv", "b/y.csv"], {}, "no-pattern: No one pattern names", ()),
    ("names within each other", {"a.csv": b"Mill\nLow\n", "aa.csv": b"Mill\nAsh\n"}, ["a.csv", "aa.csv"], {}, {"Mill": ["Low", "Ash"]}, ()),
    ("a separator of several characters", {"a.txt": b"Mill||N\nLow||1\nAsh||2\n"}, ["a.txt"], {"separator": "||"}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
    ("the same, with quotes", {"a.txt": b'Mill::N\n"Low :: Weir"::1\nAsh::2\n'}, ["a.txt"], {"separator": "::"}, {"Mill": ["Low :: Weir", "Ash"], "N": [1, 2]}, ()),
    ("a separator by its name", {"a.txt": b"Mill;N\nLow;1\n"}, ["a.txt"], {"separator": "semicolon"}, {"Mill": ["Low"], "N": [1]}, ()),
    ("a tab by its name", {"a.txt": b"Mill\tN\nLow\t1\n"}, ["a.txt"], {"separator": "tab"}, {"Mill": ["Low"], "N": [1]}, ()),
    ("a separator that is not there", {"a.txt": b"Mill;N\nLow;1\n"}, ["a.txt"], {"separator": "|"}, {"Mill;N": ["Low;1"]}, ()),
    ("JSON, an array", {"a.json": b'[{"Mill": "Low", "N": 1}, {"N": 2}]'}, ["a.json"], {}, {"Mill": ["Low", None], "N": [1, 2]}, ()),
    ("JSON, an array over lines", {"a.json": b'[\n  {"Mill": "Low", "N": 1.10},\n  {"Mill": "Ash", "N": 2.25}\n]\n'}, ["a.json"], {}, {"Mill": ["Low", "Ash"], "N": [D("1.10"), D("2.25")]}, ()),
    ("JSON, an object a line", {"a.json": b'{"Mill": "Low", "N": 1}\n{"Mill": "Ash", "N": 2}\n'}, ["a.json"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
    ("objects within objects", {"a.jsonl": b'{"Mill": {"Name": "Low", "Town": {"Id": 7}}, "N": 1}\n{"Mill": {"Name": "Ash"}, "N": 2}\n'}, ["a.jsonl"], {}, {"Mill.Name": ["Low", "Ash"], "Mill.Town.Id": [7, None], "N": [1, 2]}, ()),
    ("a long number keeps its digits", {"a.jsonl": b'{"N": 0.1234567890123456}\n{"N": 1.5}\n'}, ["a.jsonl"], {}, {"N": [0.1234567890123456, 1.5]}, ()),
    ("half a character", {"a.jsonl": b'{"Mill": "\\ud800"}\n'}, ["a.jsonl"], {}, "bad-row: line 1: it holds half a character", ()),
    ("a key twice", {"a.jsonl": b'{"N": 1, "N": 2}\n'}, ["a.jsonl"], {}, "bad-row: the key 'N' is there twice", ()),
    ("two values for one name", {"a.jsonl": b'{"A.B": 1, "A": {"B": 2}}\n'}, ["a.jsonl"], {}, "bad-row: two values for 'A.B'", ()),
    ("an array cut off", {"a.json": b'[{"N": 1}, {"N"'}, ["a.json"], {}, "not-json: a.json is not JSON", ()),
    ("an array of numbers", {"a.json": b"[1, 2]"}, ["a.json"], {}, "bad-row: object 1: it is not an object", ()),
    ("an empty array", {"a.json": b"[]"}, ["a.json"], {}, "empty-file: a.json", ()),
    ("several files of JSON", {"a.jsonl": b'{"Mill": "Low", "N": 1}\n', "b.jsonl": b'{"mill": "Ash", "N": 2}\n'}, ["*.jsonl"], {}, {"Mill": ["Low", "Ash"], "N": [1, 2]}, ()),
]  # fmt: skip

# The lines of a sheet, what must come out, what must be said.
SHEETS: list[tuple[str, list[list[Any]], Wanted, tuple[str, ...]]] = [
    ("a total", [["Mill", "Loads"], ["Low", 3], ["Ash", 4], ["Total", 7]], {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("footer 1",)),
    ("totals after a gap", [["Mill", "Loads"], ["Low", 3], ["Ash", 4], [], ["Subtotal", 7], ["Grand total", 7]], {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("footer 3",)),
    ("an unnamed first column", [["", "Mill", "Loads"], [0, "Low", 3], [1, "Ash", 4]], {"Column 1": [0, 1], "Mill": ["Low", "Ash"], "Loads": [3, 4]}, ()),
    ("a name twice", [["Mill", "Loads", "Loads"], ["Low", 3, 5], ["Ash", 4, 6]], {"Mill": ["Low", "Ash"], "Loads": [3, 4], "Loads 2": [5, 6]}, ()),
    ("years for names", [["Mill", 2024, 2025], ["Low", 3, 5], ["Ash", 4, 6]], {"Mill": ["Low", "Ash"], "2024": [3, 4], "2025": [5, 6]}, ("years",)),
    ("dates for names", [["Mill", dt.date(2025, 1, 1)], ["Low", 3], ["Ash", 4]], {"Mill": ["Low", "Ash"], "2025-01-01": [3, 4]}, ()),
    ("a title", [["Loads of June"], [], ["Mill", "Loads"], ["Low", 3], ["Ash", 4]], {"Mill": ["Low", "Ash"], "Loads": [3, 4]}, ("title",)),
    ("two rows of names", [["", 2025, "", 2026, ""], ["Mill", "Loads", "Cost", "Loads", "Cost"], ["Low", 1, 2, 3, 4], ["Ash", 5, 6, 7, 8]], {"Mill": ["Low", "Ash"], "2025 Loads": [1, 5], "2025 Cost": [2, 6], "2026 Loads": [3, 7], "2026 Cost": [4, 8]}, ("two rows",)),
    ("no names", [["Low", 3], ["Ash", 4]], {"Column 1": ["Low", "Ash"], "Column 2": [3, 4]}, ("header none",)),
    ("texts stay texts", [["Code", "N"], ["12", 1], ["34", 2]], {"Code": ["12", "34"], "N": [1, 2]}, ("cells of text, which read as whole numbers", "oak field retype t Code integer")),
    ("codes with an E", [["Code", "N"], ["12E4", 1], ["34E1", 2]], {"Code": ["12E4", "34E1"], "N": [1, 2]}, ()),
    ("numbers and a word", [["N"], *[[at] for at in range(300)], ["nil"]], {"N": [*range(300), None]}, ()),
    ("formulas never computed", [["Mill", "Sum"], ["Low", "=1+2"], ["Ash", "=2+2"]], {"Mill": ["Low", "Ash"], "Sum": [None, None]}, ("a formula that was never computed",)),
    ("a sheet without cells", [], "empty-file: has no columns and no rows", ()),
    ("names alone", [["Mill", "Loads"]], {"Mill": [], "Loads": []}, ()),
]  # fmt: skip


class Sheets(FolderCase):
    def test_each_comes_out_as_it_must(self) -> None:
        for about, lines, wanted, said in SHEETS:
            with self.subTest(about):
                book = openpyxl.Workbook()
                sheet = book.active
                assert sheet is not None
                for line in lines:
                    sheet.append(line)
                book.create_sheet("Empty")
                book.save("t.xlsx")
                if isinstance(wanted, str):
                    self.assertIn(
                        wanted.partition(": ")[2], str(self.raises(wanted.partition(": ")[0], oak.intake, ["t.xlsx"]))
                    )
                    continue
                found = oak.intake(["t.xlsx"], definition="t.oak.toml")
                shown = [(one, f'"{one}"') for one in wanted]
                table = found.source.rows(shown).table
                self.assertEqual(table.to_pydict(), wanted)
                told = " ".join(
                    [
                        *(f"{what} {why}" for what, why in found.decisions),
                        *map(str, found.findings),
                        *(one.evidence.why for one in found.proposals),
                    ]
                )
                for words in said:
                    self.assertIn(words, told)
                found.save(replace=True)
                self.assertEqual(oak.open_source("t.oak.toml").rows(shown).table, table)

    def test_tables_of_a_database(self) -> None:
        for tables, wanted in ((["loads"], ["Low"]), (["loads", "mills"], "which-table"), ([], "which-table")):
            path = self.folder / f"{len(tables)}.sqlite"
            with sqlite3.connect(path) as connection:
                for name in tables:
                    connection.execute(f"create table {name} (Mill text, N integer)")
                    connection.execute(f"insert into {name} values ('Low', 1)")
            connection.close()
            if isinstance(wanted, str):
                self.raises(wanted, oak.intake, [path], definition="t.oak.toml")
            else:
                self.assertEqual(
                    oak.intake([path], definition="t.oak.toml").source.rows(["Mill"]).table.column(0).to_pylist(),
                    wanted,
                )
        self.raises(
            "column-twice",
            oak.intake,
            [self.folder / "1.sqlite"],
            definition="t.oak.toml",
            query="select N, N from loads",
        )

    def test_a_thousand_columns(self) -> None:
        names = [f"Column {at} x" for at in range(1000)]
        path = self.write("t.csv", ",".join(names) + "\n" + (",".join(str(at) for at in range(1000)) + "\n") * 3)
        found = oak.intake([path], definition="t.oak.toml")
        found.save()
        table = oak.open_source("t.oak.toml").rows().table
        self.assertEqual((table.num_columns, table.num_rows, table.column(999)[2].as_py()), (1000, 3, 999))


class ManyFiles(FolderCase):
    def test_each_comes_out_as_it_must(self) -> None:
        for about, files, paths, keys, wanted, said in MANY:
            with self.subTest(about):
                folder = self.folder / about.replace(" ", "_")
                for name, content in files.items():
                    self.write(str(folder / name), content)
                target = folder / "t.oak.toml"

                def take(
                    paths: list[str] = paths, folder: Path = folder, target: Path = target, keys: Any = keys
                ) -> oak.Intake:
                    return oak.intake([folder / path for path in paths], definition=target, **keys)

                if isinstance(wanted, str):
                    code, _, words = wanted.partition(": ")
                    self.assertIn(words, str(self.raises(code, take)))
                    continue
                found = take()
                shown = [(one, f'"{one}"') for one in wanted]
                table = found.source.rows(shown).table
                self.assertEqual(table.to_pydict(), wanted)
                self.assertLessEqual({one.name for one in found.source.fields} - {*wanted}, {"File"})
                told = " ".join([*(f"{what} {why}" for what, why in found.decisions), *map(str, found.findings)])
                for words in said:
                    self.assertIn(words, told)
                found.save()
                self.assertEqual(oak.open_source(target).rows(shown).table, table)

    def test_a_newer_file_that_the_path_does_not_name(self) -> None:
        self.write("loads_01.csv", "Mill,N\nLow,1\n")
        found = oak.intake(["loads_*.csv"], name="Loads", definition="l.oak.toml")
        self.assertEqual([one.code for one in found.findings], [])
        found.save()
        later = time.time() + 60
        for name, content in (("Loads-02.csv", "Mill,N\nAsh,2\n"), ("mills.csv", "Mill,Town\nAsh,Weir\n")):
            os.utime(self.write(name, content), (later, later))
        told = self.oak("check", "l", code=None)
        self.assertIn("Loads-02.csv lies beside", " ".join(told.split()))
        self.assertNotIn("mills.csv", told)

    def test_workbooks_by_pattern(self) -> None:
        for name, rows in (
            ("l_1.xlsx", [["Mill", "N"], ["Low", 1], ["Ash", 2]]),
            ("l_2.xlsx", [["mill", "N", "Day"], ["Elm", 2.5, dt.date(2026, 3, 1)]]),
        ):
            book = openpyxl.Workbook()
            sheet = book.active
            assert sheet is not None
            sheet.title = "Loads"
            for row in rows:
                sheet.append(row)
            book.save(name)
        found = oak.intake(["l_*.xlsx"], definition="l.oak.toml", name_parts="l_{Part}.xlsx")
        found.save()
        for source in (found.source, oak.open_source("l.oak.toml")):
            table = source.rows(["Mill", "N", "Day", "Part"]).table.to_pydict()
            self.assertEqual(
                table,
                {
                    "Mill": ["Low", "Ash", "Elm"],
                    "N": [1.0, 2.0, 2.5],
                    "Day": [None, None, day("2026-03-01")],
                    "Part": [1, 1, 2],
                },
            )
        self.assertIn("l_2.xlsx has the extra column Day", " ".join(map(str, found.findings)))


if __name__ == "__main__":
    unittest.main()
