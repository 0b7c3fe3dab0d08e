"""Drives real programs for script/fidelity, and writes the table of docs/fidelity.md."""

import datetime, json, os, pathlib, re, shutil, signal, subprocess, sys, tempfile, time
import xml.etree.ElementTree as xml

BUILT, ONLY = pathlib.Path(sys.argv[1]).resolve(), sys.argv[2]
WORK = pathlib.Path(tempfile.mkdtemp(prefix="yadori-fidelity-"))
DISPLAY = ":" + next(str(n) for n in range(90, 200) if not pathlib.Path(f"/tmp/.X{n}-lock").exists())
ENV = {**os.environ, "DISPLAY": DISPLAY, "HOME": str(WORK / "user"), "LC_ALL": "C.UTF-8", "GTK_THEME": "Adwaita",
       "NO_AT_BRIDGE": "1", "SAL_USE_VCLPLUGIN": "gtk3", "MOZ_DISABLE_CONTENT_SANDBOX": "1", "DBUS_SESSION_BUS_ADDRESS": "disabled:"}
STARTED = []

ODF = ('<?xml version="1.0"?><office:document xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" '
       'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
       'xmlns:style="urn:oasis:names:tc:opendocument:xmlns:style:1.0" '
       'xmlns:fo="urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0" xmlns:of="urn:oasis:names:tc:opendocument:xmlns:of:1.2" '
       'office:version="1.2" office:mimetype="application/vnd.oasis.opendocument.{kind}">{styles}<office:body>'
       '<office:{kind}>{body}</office:{kind}></office:body></office:document>')
BOLD = ('<office:automatic-styles><style:style style:name="B" style:family="text"><style:text-properties fo:font-weight="bold"/>'
        '</style:style></office:automatic-styles>')
CELLS = ('<table:table table:name="S"><table:table-row><table:table-cell office:value-type="string"><text:p>Lamp</text:p>'
         '</table:table-cell><table:table-cell office:value-type="string"><text:p>Level</text:p></table:table-cell></table:table-row>'
         '<table:table-row><table:table-cell office:value-type="float" office:value="7"><text:p>7</text:p></table:table-cell>'
         '<table:table-cell office:value-type="float" office:value="80"><text:p>80</text:p></table:table-cell></table:table-row>'
         '<table:table-row><table:table-cell office:value-type="string"><text:p>Sum</text:p></table:table-cell>'
         '<table:table-cell table:formula="of:=[.A2]+[.B2]" office:value-type="float" office:value="87"><text:p>87</text:p>'
         '</table:table-cell></table:table-row></table:table>')
WORDS = '<text:p>Load-in at <text:span text:style-name="B">half past two</text:span>, by the north door.</text:p><text:p>Curtain at 19:30.</text:p>'
PAGE = ("<!doctype html><meta charset=utf-8><title>fidelity-page</title><p>Load-in at <b>half past two</b>.</p>"
        "<table><tr><td>Lamp<td>Level<tr><td>7<td>80</table>")


def run(*command, **more):
    return subprocess.run([str(part) for part in command], env=ENV, capture_output=True, text=True, **more)


def start(*command, **more):
    child = subprocess.Popen([str(part) for part in command], env=ENV, start_new_session=True,
                             stdout=more.pop("stdout", subprocess.DEVNULL), stderr=subprocess.DEVNULL, **more)
    STARTED.append(child)
    return child


def end(child):
    for wanted in (signal.SIGTERM, signal.SIGKILL):
        try:
            os.killpg(child.pid, wanted)
        except ProcessLookupError:
            break
        try:
            child.wait(8)
            break
        except subprocess.TimeoutExpired:
            continue
    STARTED.remove(child)


def until(what, patience=60):
    """Waits until something is so, and gives it."""
    deadline = time.monotonic() + patience
    while time.monotonic() < deadline:
        found = what()
        if found:
            return found
        time.sleep(0.1)
    raise TimeoutError(getattr(what, "__doc__", None) or "it did not come to be")


def window(name):
    return until(lambda: run("xdotool", "search", "--onlyvisible", "--name", name).stdout.split(), 90)[-1]


def keys(of, *pressed):
    run("xdotool", "windowactivate", "--sync", of)
    for key in pressed:
        run("xdotool", "key", "--clearmodifiers", key)
        time.sleep(0.4)


def yadori(*arguments):
    done = run(BUILT / "yadori", "--home", WORK / "home", *arguments)
    if done.returncode:
        raise RuntimeError(f"yadori {' '.join(arguments)}: {done.stderr}")
    return done.stdout


def newest():
    clips = json.loads(yadori("list", "-n", "1", "--json"))
    return clips[0] if clips else None


def office(file):
    (file.parent / f".~lock.{file.name}#").unlink(missing_ok=True)  # Of one that was ended.
    profile = WORK / f"profile-{file.stem}-{time.monotonic_ns()}"
    child = start("soffice", f"-env:UserInstallation=file://{profile}", "--norestore", "--nologo", "--nofirststartwizard", file)
    return child, window(re.escape(file.name))


def document(kind, name, body):
    file = WORK / name
    body = body or ('<table:table table:name="T"/>' if kind == "spreadsheet" else "<text:p/>")
    file.write_text(ODF.format(kind=kind, styles=BOLD, body=body))
    return file


class Source:
    """A program that copies."""

    def __init__(self, name):
        self.name = name

    def copy(self):
        if self.name == "Calc":
            self.child, of = office(document("spreadsheet", "source.fods", CELLS))
            time.sleep(2)
            keys(of, "ctrl+Home", "ctrl+shift+End", "ctrl+c")
        elif self.name == "Writer":
            self.child, of = office(document("text", "source.fodt", WORDS))
            time.sleep(2)
            keys(of, "ctrl+a", "ctrl+c")
        elif self.name == "mousepad":
            (WORK / "source.txt").write_text("Load-in 14:30\n\tby the north door\n")
            self.child = start("mousepad", "--disable-server", WORK / "source.txt")
            keys(window("source.txt"), "ctrl+a", "ctrl+c")
        else:
            page = WORK / "page.html"
            page.write_text(PAGE)
            if self.name == "Firefox":
                (WORK / "firefox").mkdir(exist_ok=True)
                self.child = start("firefox-esr", "--no-remote", "--profile", WORK / "firefox", page.as_uri())
            else:
                self.child = start("chromium", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-sync",
                                   "--disable-background-networking", "--disable-component-update",
                                   f"--user-data-dir={WORK / 'chromium'}", page.as_uri())
            of = window("fidelity-page")
            time.sleep(4)
            run("xdotool", "mousemove", "--window", of, "400", "500", "click", "1")
            keys(of, "ctrl+a", "ctrl+c")


def texts(element):
    """The text of an element, without the line ends that only indent its file."""
    return re.sub(r"\n *", "", "".join(element.itertext()))


def saved(file):
    """What a document holds, as far as it matters: its text, formulas and bold words, pictures and objects."""
    if file.suffix == ".txt":
        return file.read_text()
    root = xml.parse(file).getroot()
    name = lambda element: element.tag.rsplit("}", 1)[-1]
    attribute = lambda element, wanted: next((value for key, value in element.attrib.items() if key.endswith("}" + wanted)), None)
    body = next(element for element in root.iter() if name(element) == "body")
    bold = {attribute(style, "name") for style in root.iter() if name(style) == "style"
            for part in style if attribute(part, "font-weight") == "bold"}
    frames = [name(part) for frame in body.iter() if name(frame) == "frame" for part in frame if name(part) in ("image", "object", "object-ole")]
    rows = [[(texts(cell), attribute(cell, "formula")) for cell in row if texts(cell)] for row in body.iter() if name(row) == "table-row"]
    return {"rows": [row for row in rows if row], "pictures and objects": sorted(set(frames)),
            "paragraphs": [texts(part) for part in body.iter() if name(part) in ("p", "h") and texts(part)],
            "bold": sorted({texts(span).strip() for span in body.iter() if name(span) == "span" and attribute(span, "style-name") in bold})}


def paste_into(target):
    """Pastes into a new document of a program, and gives what that saved."""
    name = f"target-{time.monotonic_ns()}"
    if target == "mousepad":
        file = WORK / f"{name}.txt"
        file.write_text("")
        child = start("mousepad", "--disable-server", file)
        of = window(name)
    else:
        file = document("spreadsheet" if target == "Calc" else "text", f"{name}.{'fods' if target == 'Calc' else 'fodt'}", "")
        child, of = office(file)
        time.sleep(2)
        keys(of, "ctrl+Home")
    before = file.stat().st_mtime_ns
    keys(of, "ctrl+v")
    time.sleep(2.5)
    asks = run("xdotool", "search", "--onlyvisible", "--name", "Import|Paste|Text").stdout.split()
    for dialog in asks:
        if dialog != of:
            keys(dialog, "Return")
            time.sleep(1)
    keys(of, "ctrl+s")
    try:
        until(lambda: file.stat().st_mtime_ns != before, 15)
        time.sleep(0.5)
        return saved(file)
    except TimeoutError:
        return "nothing was saved"
    finally:
        end(child)


def brief(what):
    """What was saved, in short."""
    if isinstance(what, dict):
        what = {name: part for name, part in what.items() if part and not (name == "paragraphs" and what["rows"])}
        what["rows"] = [[cell[1] or cell[0] for cell in row] for row in what.get("rows", [])]
        what = {name: part for name, part in what.items() if part}
    return json.dumps(what, ensure_ascii=False)[:200]


def differing(what, original):
    """The parts in which what was saved differs from the original."""
    if isinstance(what, dict) and isinstance(original, dict):
        what = {name: part for name, part in what.items() if part != original.get(name)}
    return json.dumps(what, ensure_ascii=False)[:200]


def main():
    (WORK / "user").mkdir()
    start("Xvfb", DISPLAY, "-screen", "0", "1280x900x24", "-nolisten", "tcp")
    until(lambda: run("xdotool", "getdisplaygeometry").returncode == 0)
    start("openbox")
    (WORK / "home").mkdir()
    (WORK / "home" / "config.toml").write_text('[api]\nlisten = "127.0.0.1:0"\n')
    service = start(BUILT / "yadorid", "--home", WORK / "home", "--clipboard", "x11", stdout=subprocess.PIPE)
    assert service.stdout.readline().startswith(b"ready")
    rows, lasting = [], list(STARTED)
    for source in ("Calc", "Writer", "Firefox", "Chromium", "mousepad"):
        if ONLY.lower() not in source.lower():
            continue
        for target in ("Calc", "Writer", "mousepad"):
            result = [source, target]
            try:
                program = Source(source)
                yadori("copy", f"before {source} into {target}")
                before = newest()["id"]
                program.copy()
                clip = until(lambda: (lambda new: new and new["id"] != before and new)(newest()), 30)
                time.sleep(3)  # What the program keeps for itself follows.
                formats = json.loads(yadori("show", clip["id"], "--json"))["formats"]
                original = paste_into(target)
                yadori("copy", "something else")
                yadori("recall", clip["id"])
                recalled = paste_into(target)
                yadori("copy", "something else again")
                # Copied once more, and then the source exits.
                end(program.child)
                program.copy()
                until(lambda: newest()["id"] == clip["id"], 30)
                time.sleep(3)
                end(program.child)
                time.sleep(1)
                left = paste_into(target)
                for what in (recalled, left):
                    result.append("equal" if what == original else "different: " + differing(what, original))
                result.append(f"{brief(original)} ({len(formats)} formats)")
            except Exception as error:
                result += [f"not tried: {error}"[:120]]
            for child in [child for child in STARTED if child not in lasting]:
                end(child)
            print(" | ".join(result), flush=True)
            rows.append(result)
    version = lambda *command: (run(*command).stdout.strip().splitlines() or ["?"])[0][:60]
    page = ["# Fidelity", "",
            "Is what is pasted from a recall what the program itself would have pasted? `script/fidelity` wrote this table on "
            f"{datetime.date.today()}, and keeps the sections below it.", "",
            f"{version('soffice', '--version')}; {version('firefox-esr', '--version')}; {version('chromium', '--version')}; "
            f"{version('mousepad', '--version')}; X11 (Xvfb, openbox).", "",
            "| copied in | pasted into | recalled from the history | after the source has exited | what was pasted originally |",
            "| --- | --- | --- | --- | --- |"]
    escape = lambda text: text.replace("|", "\\|").replace("\n", "\\n")
    page += ["| " + " | ".join(escape(cell) for cell in row + [""] * (5 - len(row))) + " |" for row in rows]
    notes = pathlib.Path("docs/fidelity.md")
    known = notes.read_text().split("\n## ", 1)[1:] if notes.exists() else []
    if not ONLY:
        notes.write_text("\n".join(page) + "\n" + "".join(f"\n## {rest}" for rest in known))
    return 0 if all(row[2:4] == ["equal", "equal"] for row in rows) else 1


signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
try:
    sys.exit(main())
finally:
    for child in list(STARTED)[::-1]:
        end(child)
    shutil.rmtree(WORK, ignore_errors=True)
