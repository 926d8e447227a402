"""Make the pictures in docs/screenshots from the demo data: each command's output as it looks in a terminal, and a report.

Run it with `make screenshots`. Commands run for real in a fresh demo folder; their coloured output is drawn with the
font that Matplotlib brings.
"""

from __future__ import annotations

import fcntl
import os
import pty
import select
import shlex
import shutil
import signal
import struct
import subprocess
import sys
import tempfile
import termios
from pathlib import Path

import pyte
from matplotlib import get_data_path
from PIL import Image, ImageDraw, ImageFont
from rich.console import Console
from rich.segment import Segment
from rich.style import Style
from rich.text import Text

OUT = Path(__file__).parent.parent / "docs" / "screenshots"
WIDTH, SIZE, LINE, MARGIN = 120, 16, 21, 22
LINES = 34  # of a terminal with an editor
BACK, INK, QUIET, PANEL = "#fbfaf6", "#26302a", "#7d857f", "#e4ead9"
FONTS = Path(get_data_path()) / "fonts" / "ttf"
SIZE_CLASS = "CASE WHEN Volume < 10 THEN 'small' WHEN Volume < 30 THEN 'middle' ELSE 'large' END"
MARGIN_PARTS = '"Gross value" - "Haulage cost" - "Loading cost"'

MOVED = "STAND=COMPARTMENT LOADING_COST=PERMIT_COST PERMIT_COST=LOADING_COST"
# What is run before a picture is taken, and what is shown in it.
INTAKE = (
    "oak intake 'intake/loads_*.csv' --name 'Timber loads' --name-parts 'loads_{Year}-{Month}.csv' --to again.oak.toml"
)
PICTURES: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "help": ((), ("oak --help",)),
    "intake": ((), (INTAKE,)),
    "profile": ((), ("oak profile again",)),
    "compare": (("oak field clean again Mill 'INITCAP(TRIM(VALUE))'",), ("oak undo compare again",)),
    "field": ((), ("oak field list loads",)),
    "try": ((), (f'oak try loads "{SIZE_CLASS}" -n 4', "oak try loads 'ROUND(Volum * 1.2, 1) + Mill'")),
    "tally": (
        ("oak field add loads 'Haulage, per row' '\"Haulage cost\" / Volume'",),
        (
            "oak tally loads --by Mill --show Volume --show Margin --show 'Margin rate' --totals",
            "oak tally loads --by Mill --show 'Haulage, per row' --totals",
            "oak tally loads --by Mill --show Margin -n 2 --explain",
        ),
    ),
    "check": ((f"oak field add loads 'Margin, in parts' {shlex.quote(MARGIN_PARTS)}",), ("oak check loads",)),
    "versions": ((), ("oak versions",)),
    "report": ((), ("oak report render reports/mill_margins.report.toml",)),
    "why": ((), ("oak why reports/mill_margins.report.toml Mills 'Ember Quay' --measure 'Margin rate'",)),
    "causes": (("oak field drop loads 'Haulage, per row' 'Margin, in parts' --yes", "redeliver"), ("oak check loads",)),
    "mend": ((), ("oak mend loads",)),
    "publish": (
        (
            f"oak mend loads {MOVED} --rename Stand=Compartment",
            "oak mend loads --values Species OAK=Oak ASH=Ash LAR=Larch SPR=Spruce",
            "oak field drop loads 'Distance km' --yes",
            "oak field retype loads Moisture 'decimal(18,3)'",
            "oak field clean loads Moisture 'VALUE * 100'",
        ),
        ("oak publish loads --note 'compartments' --yes",),
    ),
}  # the order matters: each picture finds what those before it left


def run(command: str, folder: Path) -> str:
    """Run a command in the folder and give what it prints, colours included."""
    if command == "redeliver":
        for path in (folder / "delivery").glob("*.csv"):
            (folder / "intake" / path.name).write_bytes(path.read_bytes())
        return ""
    environment = {
        **os.environ,
        "FORCE_COLOR": "1",
        "COLUMNS": str(WIDTH),
        "TERM": "xterm-256color",
        "COLORTERM": "truecolor",
        "OAK_USER": "curator",
    }
    program = [str(Path(sys.executable).parent / "oak"), *shlex.split(command)[1:]]
    done = subprocess.run(program, cwd=folder, env=environment, capture_output=True, text=True, check=False)
    if "Traceback" in done.stderr or (command.startswith("oak demo") and done.returncode):
        raise SystemExit(f"{command} failed:\n{done.stdout}{done.stderr}")
    return done.stdout + done.stderr


def draw(text: str, path: Path) -> None:
    """Draw coloured terminal text as a PNG."""
    console = Console(width=WIDTH, force_terminal=True, color_system="truecolor", highlight=False)
    lines = list(Segment.split_lines(console.render(Text.from_ansi(text))))
    fonts = {
        bold: ImageFont.truetype(str(FONTS / f"DejaVuSansMono{'-Bold' if bold else ''}.ttf"), SIZE)
        for bold in (False, True)
    }
    cell = fonts[False].getlength("m")
    image = Image.new("RGB", (int(cell * WIDTH) + 2 * MARGIN, LINE * len(lines) + 2 * MARGIN), BACK)
    pen = ImageDraw.Draw(image)
    for row, line in enumerate(lines):
        column = 0
        for segment in line:
            style = segment.style or Style()
            for character in segment.text:
                place = (MARGIN + column * cell, MARGIN + row * LINE)
                if style.bgcolor is not None and not style.bgcolor.is_default:
                    pen.rectangle((*place, place[0] + cell, place[1] + LINE), fill=PANEL)
                pen.text(place, character, font=fonts[bool(style.bold)], fill=colour(style))
                column += 1
    image.save(path, optimize=True)


def colour(style: Style) -> str:
    """The colour of a style on paper."""
    if style.color is None or style.color.is_default:
        return INK
    if style.color.name == "bright_black":
        return QUIET
    red, green, blue = (int(part * 0.8) for part in style.color.get_truecolor())
    return f"#{red:02x}{green:02x}{blue:02x}"


EDITOR = """\
vim.o.termguicolors, vim.o.number, vim.o.signcolumn, vim.o.cmdheight = true, true, 'yes', 1
vim.cmd('edit loads.oak.toml')
local client = vim.lsp.start_client({ name = 'oak', cmd = { vim.env.OAK, 'language-server' }, root_dir = vim.fn.getcwd() })
vim.lsp.buf_attach_client(0, client)
vim.o.completeopt = 'menuone,noselect'
vim.diagnostic.config({ update_in_insert = true })
vim.bo.omnifunc = 'v:lua.vim.lsp.omnifunc'
vim.wait(20000, function() return vim.lsp.get_client_by_id(client).initialized end, 50)
local line = vim.fn.search('^formula = ')
vim.api.nvim_buf_set_lines(0, line - 1, line, false, {
  "formula = '''Volum * 1.2'''", "", "[[field]]", 'name = "Haulage share"', "formula = '''SUM('''",
})
vim.wait(20000, function() return #vim.diagnostic.get(0) > 1 end, 50)
vim.api.nvim_win_set_cursor(0, { line + 4, 16 })
vim.api.nvim_feedkeys(vim.api.nvim_replace_termcodes('a<C-x><C-o>', true, false, true), 'n', false)
"""


def edit(folder: Path, target: Path) -> None:
    """An editor in a terminal, with a diagnostic and proposals open; where there is no nvim the picture stays as it is."""
    if shutil.which("nvim") is None:
        print(f"{target.name}: there is no nvim; it stays as it is")
        return
    script = folder / "editor.lua"
    script.write_text(EDITOR)
    screen = pyte.Screen(WIDTH, LINES)
    stream = pyte.ByteStream(screen)
    process, terminal = pty.fork()
    if process == 0:
        os.chdir(folder)
        environment = {**os.environ, "TERM": "xterm-256color", "OAK": str(Path(sys.executable).parent / "oak")}
        os.execvpe("nvim", ["nvim", "-n", "--clean", "-c", f"luafile {script}"], environment)  # noqa: S606, S607
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", LINES, WIDTH, 0, 0))
    while select.select([terminal], [], [], 6)[0]:
        stream.feed(os.read(terminal, 65_536))
    os.kill(process, signal.SIGKILL)
    os.waitpid(process, 0)
    rows = [[screen.buffer[row][column] for column in range(WIDTH)] for row in range(LINES)]
    draw("\n".join("".join(map(_cell, row)) + "\x1b[0m" for row in rows), target)
    print(target.name)


def _cell(cell: pyte.screens.Char) -> str:
    """A cell of a terminal as coloured text."""
    inks = [(38, cell.bg if cell.reverse else cell.fg), (48, cell.fg if cell.reverse else cell.bg)]
    codes = [
        f"{kind};2;{int(ink[:2], 16)};{int(ink[2:4], 16)};{int(ink[4:], 16)}" for kind, ink in inks if len(ink) == 6
    ]
    return f"\x1b[{';'.join(['0', *codes])}m{cell.data}"


def shoot(page: Path, target: Path) -> None:
    """A page as a browser shows it; where there is no browser the picture stays as it is."""
    program = shutil.which("chromium")
    if program is None:
        print(f"{target.name}: there is no chromium; it stays as it is")
        return
    quiet = (
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
    )
    with tempfile.TemporaryDirectory() as profile:
        subprocess.run(
            [program, *quiet, f"--user-data-dir={profile}", "--window-size=1280,800", "--hide-scrollbars", f"--screenshot={target}", f"file://{page}"],
            check=True, capture_output=True,
        )  # fmt: skip
    print(target.name)


def main() -> None:
    """Make every picture."""
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "hollowmere"
        run(f"oak demo {folder} --until release", Path(name))
        for picture, (before, shown) in PICTURES.items():
            for command in before:
                run(command, folder)
            texts = [f"\x1b[38;2;95;158;74m$ {command}\x1b[0m\n{run(command, folder)}" for command in shown]
            draw("\n".join(texts), OUT / f"{picture}.png")
            print(f"{picture}.png")
        run(f"oak profile loads Volume --to {OUT / 'profile_field.png'}", folder)
        edit(folder, OUT / "editor.png")
        run("oak release 'Timber loads' --yes", folder)
        for report in ("mill_intake",):
            run(f"oak report render reports/{report}.report.toml --to {OUT / f'report_{report}.png'}", folder)
            print(f"report_{report}.png")
        run(f"oak trace loads Volume --to {OUT / 'trace.png'}", folder)
        run("oak export dictionary --to dictionary", folder)
        shoot(folder / "dictionary" / "general--timber-loads.html", OUT / "dictionary.png")


if __name__ == "__main__":
    main()
