"""The programs that script/fidelity copies in and pastes into."""

import hashlib, re, time
import xml.etree.ElementTree as xml

from desktop import WORK, end, until

ODF = ('<?xml version="1.0"?><office:document xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" '
       'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
       'xmlns:style="urn:oasis:names:tc:opendocument:xmlns:style:1.0" xmlns:draw="urn:oasis:names:tc:opendocument:xmlns:drawing:1.0" '
       'xmlns:svg="urn:oasis:names:tc:opendocument:xmlns:svg-compatible:1.0" '
       'xmlns:fo="urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0" xmlns:of="urn:oasis:names:tc:opendocument:xmlns:of:1.2" '
       'office:version="1.2" office:mimetype="application/vnd.oasis.opendocument.{kind}">{styles}<office:body>'
       '<office:{part}>{body}</office:{part}></office:body></office:document>')
STYLES = ('<office:automatic-styles><style:style style:name="B" style:family="text"><style:text-properties fo:font-weight="bold"/>'
          '</style:style><style:style style:name="F" style:family="graphic"><style:graphic-properties draw:fill="solid" '
          'draw:fill-color="#d08770"/></style:style><style:page-layout style:name="L"><style:page-layout-properties fo:page-width="20cm" '
          'fo:page-height="15cm"/></style:page-layout></office:automatic-styles><office:master-styles>'
          '<style:master-page style:name="M" style:page-layout-name="L"/></office:master-styles>')
CELLS = ('<table:table table:name="S"><table:table-row><table:table-cell office:value-type="string"><text:p>Lamp</text:p>'
         '</table:table-cell><table:table-cell office:value-type="string"><text:p>Level</text:p></table:table-cell></table:table-row>'
         '<table:table-row><table:table-cell office:value-type="float" office:value="7"><text:p>7</text:p></table:table-cell>'
         '<table:table-cell office:value-type="float" office:value="80"><text:p>80</text:p></table:table-cell></table:table-row>'
         '<table:table-row><table:table-cell office:value-type="string"><text:p>Sum</text:p></table:table-cell>'
         '<table:table-cell table:formula="of:=[.A2]+[.B2]" office:value-type="float" office:value="87"><text:p>87</text:p>'
         '</table:table-cell></table:table-row></table:table>')
WORDS = '<text:p>Load-in at <text:span text:style-name="B">half past two</text:span>, by the north door.</text:p><text:p>Curtain at 19:30.</text:p>'
SHAPES = ('<draw:rect draw:style-name="F" svg:width="6cm" svg:height="3cm" svg:x="2cm" svg:y="2cm"><text:p>Stage left</text:p></draw:rect>'
          '<draw:ellipse draw:style-name="F" svg:width="3cm" svg:height="3cm" svg:x="9cm" svg:y="6cm"><text:p>Lamp 7</text:p></draw:ellipse>')
PAGE = ("<!doctype html><meta charset=utf-8><title>fidelity-page</title><p>Load-in at <b>half past two</b>.</p>"
        "<table><tr><td>Lamp<td>Level<tr><td>7<td>80</table>")
LINES = "Load-in 14:30\n\tby the north door\n"


def fresh(ending):
    return WORK / f"target-{time.monotonic_ns()}{ending}"


def saved_after(desktop, of, file, *save):
    """Presses what saves, and waits until the file is written."""
    before = file.stat().st_mtime_ns
    desktop.keys(of, *(save or ("ctrl+s",)))
    try:
        until(lambda: file.stat().st_mtime_ns != before, 15)
    except TimeoutError:
        picture = f"/tmp/yadori-fidelity-{file.stem}.png"
        desktop.run("import", "-window", "root", picture)
        raise TimeoutError(f"nothing was saved (see {picture})") from None
    time.sleep(0.5)


class Office:
    """A part of LibreOffice."""

    version = ("soffice", "--version")
    ends = {"spreadsheet": "fods", "text": "fodt", "graphics": "fodg"}

    def __init__(self, name, kind, body, empty, select):
        self.name, self.kind, self.body, self.empty, self.select = name, kind, body, empty, select

    def open(self, desktop, file, body):
        part = "drawing" if self.kind == "graphics" else self.kind
        file.write_text(ODF.format(kind=self.kind, part=part, styles=STYLES, body=body))
        (file.parent / f".~lock.{file.name}#").unlink(missing_ok=True)  # Of one that was ended.
        profile = WORK / f"profile-{file.stem}-{time.monotonic_ns()}"
        child = desktop.start("soffice", f"-env:UserInstallation=file://{profile}", "--norestore", "--nologo", "--nofirststartwizard", file)
        of = desktop.window(re.escape(file.name))
        time.sleep(2)
        return child, of

    def copy(self, desktop):
        child, of = self.open(desktop, WORK / f"source.{self.ends[self.kind]}", self.body)
        if self.kind == "graphics":
            desktop.click(of, "620", "500")
        desktop.keys(of, *self.select, "ctrl+c")
        return child

    def paste(self, desktop):
        file = fresh(f".{self.ends[self.kind]}")
        child, of = self.open(desktop, file, self.empty)
        try:
            desktop.keys(of, "Escape" if self.kind == "graphics" else "ctrl+Home", "ctrl+v")
            time.sleep(2.5)
            for dialog in desktop.windows("Import|Paste|Text"):
                if dialog != of:
                    desktop.keys(dialog, "Return")
                    time.sleep(1)
            saved_after(desktop, of, file)
            return self.saved(file)
        finally:
            end(child)

    @staticmethod
    def saved(file):
        """What a document holds, as far as it matters: its text, formulas and bold words, shapes, pictures and objects."""
        root = xml.parse(file).getroot()
        name = lambda element: element.tag.rsplit("}", 1)[-1]
        for data in [element for element in root.iter() if name(element) == "binary-data"]:
            data.text = f"[{hashlib.sha256((data.text or '').encode()).hexdigest()[:8]}]"
        attribute = lambda element, wanted: next((value for key, value in element.attrib.items() if key.endswith("}" + wanted)), None)
        texts = lambda element: re.sub(r"\n *", "", "".join(element.itertext()))  # Without line ends that only indent the file.
        body = next(element for element in root if name(element) == "body")  # Templates of tables have bodies, too.
        styles = {attribute(style, "name"): part for style in root.iter() if name(style) == "style" for part in style}
        bold = {style for style, part in styles.items() if attribute(part, "font-weight") == "bold"}
        frames = [name(part) for frame in body.iter() if name(frame) == "frame" for part in frame if name(part) in ("image", "object", "object-ole")]
        rows = [[(texts(cell), attribute(cell, "formula")) for cell in row if texts(cell)] for row in body.iter() if name(row) == "table-row"]
        shapes = [(name(shape), attribute(shape, "width"), texts(shape)) for shape in body.iter()
                  if name(shape) in ("rect", "ellipse", "circle", "custom-shape", "path", "polygon")]
        return {"rows": [row for row in rows if row], "pictures and objects": sorted(set(frames)), "shapes": sorted(shapes, key=str),
                "paragraphs": [texts(part) for part in body.iter() if name(part) in ("p", "h") and texts(part)],
                "bold": sorted({texts(span).strip() for span in body.iter() if name(span) == "span" and attribute(span, "style-name") in bold})}


class Browser:
    """A browser that shows a page."""

    def __init__(self, name, version):
        self.name, self.version = name, version

    def copy(self, desktop):
        page = WORK / "page.html"
        page.write_text(PAGE)
        if self.name == "Firefox":
            (WORK / "firefox").mkdir(exist_ok=True)
            child = desktop.start("firefox-esr", "--no-remote", "--profile", WORK / "firefox", page.as_uri())
        else:
            child = desktop.start("chromium", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-sync",
                                  "--disable-background-networking", "--disable-component-update",
                                  f"--user-data-dir={WORK / 'chromium'}", page.as_uri())
        of = desktop.window("fidelity-page")
        time.sleep(4)
        desktop.click(of, "400", "500")
        desktop.keys(of, "ctrl+a", "ctrl+c")
        return child


class Editor:
    """An editor of plain text."""

    def __init__(self, name, version, *command):
        self.name, self.version, self.command = name, version, command

    def open(self, desktop, file):
        child = desktop.start(*self.command, file)
        of = desktop.window(re.escape(file.name))
        time.sleep(1)
        return child, of

    def copy(self, desktop):
        file = WORK / "source.txt"
        file.write_text(LINES)
        child, of = self.open(desktop, file)
        desktop.keys(of, "ctrl+a", "ctrl+c")
        return child

    def paste(self, desktop):
        file = fresh(".txt")
        file.write_text("")
        child, of = self.open(desktop, file)
        try:
            desktop.keys(of, "ctrl+v")
            time.sleep(1)
            saved_after(desktop, of, file)
            return file.read_text()
        finally:
            end(child)


class Terminal:
    """A terminal: a line is copied from it, and pasted into a program that writes down what it reads."""

    name, version = "terminal", ("sakura", "--version")

    def open(self, desktop, title, script):
        file = WORK / f"{title}.sh"
        file.write_text(script)
        child = desktop.start("sakura", "-t", title, "-e", f"sh {file}")
        of = desktop.window(title)
        time.sleep(1.5)
        return child, of

    def copy(self, desktop):
        child, of = self.open(desktop, "source-terminal", "printf 'scp plan.pdf booth:~/tour\\n'; exec sleep 600")
        desktop.click(of, "60", "12", times=3)
        desktop.keys(of, "ctrl+shift+c")
        return child

    def paste(self, desktop):
        file = fresh(".typed")
        child, of = self.open(desktop, file.stem, f"stty -icrnl; exec cat > {file}")
        try:
            until(file.exists, 10)
            desktop.keys(of, "ctrl+shift+v")
            time.sleep(1)
            desktop.keys(of, "Linefeed", "ctrl+j", "ctrl+d", "ctrl+d")
            until(lambda: child.poll() is not None or file.stat().st_size, 10)
            return file.read_text()
        finally:
            end(child)


class PictureEditor:
    """An editor of pictures."""

    name, version = "KolourPaint", ("kolourpaint", "--version")

    def open(self, desktop, file):
        child = desktop.start("kolourpaint", file)
        of = desktop.window(re.escape(file.name))
        time.sleep(2)
        return child, of

    def picture(self, desktop, file, *drawing):
        desktop.run("convert", "-size", "160x100", *drawing, f"PNG24:{file}", check=True)

    def copy(self, desktop):
        file = WORK / "source.png"
        self.picture(desktop, file, "gradient:#22405f-#d08770")
        child, of = self.open(desktop, file)
        desktop.keys(of, "ctrl+a", "ctrl+c")
        return child

    def paste(self, desktop):
        file = fresh(".png")
        self.picture(desktop, file, "xc:white")
        child, of = self.open(desktop, file)
        try:
            desktop.keys(of, "ctrl+v")
            time.sleep(1.5)
            for dialog in desktop.windows("^(?!.*target).*KolourPaint$"):
                desktop.keys(dialog, "Return")
            saved_after(desktop, of, file)
            pixels = desktop.run("identify", "-format", "%wx%h %#", file).stdout
            return {"pixels": pixels}
        finally:
            end(child)


class FileManager:
    """A file manager: a file is copied in one folder, and pasted into another."""

    name, version = "PCManFM", ("dpkg-query", "-W", "pcmanfm")

    def open(self, desktop, folder):
        child = desktop.start("pcmanfm", "-n", folder)
        of = desktop.window(folder.name)
        time.sleep(1.5)
        return child, of

    def copy(self, desktop):
        folder = WORK / "source-folder"
        folder.mkdir(exist_ok=True)
        (folder / "load in.txt").write_text(LINES)
        (folder / "plan é.txt").write_text("booth\n")
        child, of = self.open(desktop, folder)
        desktop.keys(of, "ctrl+a", "ctrl+c")
        return child

    def paste(self, desktop):
        folder = fresh("")
        folder.mkdir()
        child, of = self.open(desktop, folder)
        try:
            desktop.keys(of, "ctrl+v")
            time.sleep(3)
            return {file.name: file.read_text() for file in sorted(folder.iterdir())}
        finally:
            desktop.keys(of, "ctrl+w")
            if child.poll() is None and not self.serves(desktop, child):
                end(child)

    @staticmethod
    def serves(desktop, child):
        """Whether this process has other windows: all windows of a display belong to the first one."""
        return bool(desktop.windows("source-folder"))


CALC = Office("Calc", "spreadsheet", CELLS, '<table:table table:name="T"/>', ("ctrl+Home", "ctrl+shift+End"))
WRITER = Office("Writer", "text", WORDS, "<text:p/>", ("ctrl+a",))
DRAW = Office("Draw", "graphics", f'<draw:page draw:name="p" draw:master-page-name="M">{SHAPES}</draw:page>',
              '<draw:page draw:name="p" draw:master-page-name="M"/>', ("ctrl+a",))
FIREFOX = Browser("Firefox", ("firefox-esr", "--version"))
CHROMIUM = Browser("Chromium", ("chromium", "--version"))
MOUSEPAD = Editor("mousepad", ("mousepad", "--version"), "mousepad", "--disable-server")
FEATHERPAD = Editor("FeatherPad", ("featherpad", "--version"), "featherpad", "--standalone")
TERMINAL, PICTURES, FILES = Terminal(), PictureEditor(), FileManager()

PAIRS = [(CALC, (CALC, WRITER, DRAW, MOUSEPAD)), (WRITER, (CALC, WRITER, DRAW, MOUSEPAD, FEATHERPAD)), (DRAW, (DRAW, WRITER, PICTURES)),
         (FIREFOX, (CALC, WRITER, MOUSEPAD)), (CHROMIUM, (CALC, WRITER, MOUSEPAD, TERMINAL)), (MOUSEPAD, (CALC, WRITER, MOUSEPAD, FEATHERPAD)),
         (FEATHERPAD, (WRITER, FEATHERPAD)), (TERMINAL, (MOUSEPAD, TERMINAL, WRITER)), (PICTURES, (PICTURES, WRITER, DRAW)),
         (FILES, (FILES,))]
