"""Drives real programs for script/fidelity, and writes the table of docs/fidelity.md."""

import datetime, json, pathlib, shutil, signal, sys, time, traceback

from desktop import STARTED, WORK, Desktop, end, until
from programs import PAIRS

BUILT, ONLY = pathlib.Path(sys.argv[1]).resolve(), sys.argv[2]
PAIR_NAMES = [(source.name, target.name) for source, targets in PAIRS for target in targets]
WAYS = ("recalled from the history", "after the source has exited", "on another device")


def brief(what):
    """What was saved, in short."""
    if isinstance(what, dict) and "rows" in what:
        what = {name: part for name, part in what.items() if part and not (name == "paragraphs" and (what["rows"] or what["shapes"]))}
        what["rows"] = [[cell[1] or cell[0] for cell in row] for row in what.get("rows", [])]
        what = {name: part for name, part in what.items() if part}
    return json.dumps(what, ensure_ascii=False)[:200]


def differing(what, original):
    """The parts in which what was saved differs from the original."""
    if isinstance(what, dict) and isinstance(original, dict):
        what = {name: part for name, part in what.items() if part != original.get(name)}
    return json.dumps(what, ensure_ascii=False)[:200]


def try_pair(here, there, source, target):
    """Copies in one program and pastes into another; gives what was pasted originally, what was by each of WAYS, and the formats."""
    here.yadori("copy", f"before {source.name} into {target.name}")
    before = here.newest()["id"]
    program = source.copy(here)
    clip = until(lambda: (lambda new: new and new["id"] != before and new)(here.newest()), 30)["id"]
    time.sleep(3)  # What the program keeps for itself follows.
    formats = here.formats(clip)
    original = target.paste(here)
    if not (any(original.values()) if isinstance(original, dict) else original.strip()):
        raise RuntimeError("the program itself pastes nothing there")
    here.yadori("copy", "something else")
    here.yadori("recall", clip)
    recalled = target.paste(here)
    here.yadori("copy", "something else again")
    # Copied once more, and then the source exits.
    end(program)
    program = source.copy(here)
    until(lambda: here.newest()["id"] == clip, 30)
    time.sleep(3)
    end(program)
    time.sleep(1)
    left = target.paste(here)
    until(lambda: len(there.formats(clip)) == len(formats), 30)
    there.yadori("recall", clip)
    elsewhere = target.paste(there)
    return original, (recalled, left, elsewhere), formats


def lines_of(rows):
    """The lines of the table, by what was copied in what."""
    escape = lambda text: text.replace("|", "\\|").replace("\n", "\\n")
    return {(row[0], row[1]): "| " + " | ".join(escape(cell) for cell in row + [""] * (6 - len(row))) + " |" for row in rows}


def table(lines, versions):
    """The page, but for the sections that people write."""
    return "\n".join([
        "# Fidelity", "",
        "Is what is pasted from a recall what the program itself would have pasted? `script/fidelity` wrote this table on "
        f"{datetime.date.today()}, and keeps the sections below it.", "",
        "; ".join(versions) + "; X11 (Xvfb, openbox).", "",
        "| copied in | pasted into | " + " | ".join(WAYS) + " | what was pasted originally |", "|" + " --- |" * 6,
        *lines]) + "\n"


def main():
    here, there = Desktop("here", BUILT), Desktop("there", BUILT)
    invitation = here.yadori("device", "invite", "--json")
    invitation = json.loads(invitation)
    there.yadori("device", "join", invitation["addresses"][0], invitation["code"])
    rows, lasting = [], list(STARTED)
    for source, target in ((source, target) for source, targets in PAIRS for target in targets):
        if ONLY.lower() not in f"{source.name} {target.name}".lower():
            continue
        result = [source.name, target.name]
        try:
            original, pasted, formats = try_pair(here, there, source, target)
            result += ["equal" if what == original else "different: " + differing(what, original) for what in pasted]
            result.append(f"{brief(original)} ({len(formats)} formats)")
        except Exception as error:
            traceback.print_exc()
            result.append(f"not tried: {error}"[:120])
            here.run("import", "-window", "root", "/tmp/yadori-fidelity-last.png")
        for child in [child for child in STARTED if child not in lasting]:
            end(child)
        print(" | ".join(result), flush=True)
        rows.append(result)
    programs = {program.name: program for source, targets in PAIRS for program in (source, *targets)}
    said = [here.run(*program.version) for program in programs.values()]
    versions = dict.fromkeys(((done.stdout + done.stderr).strip().splitlines() or ["?"])[0].replace("\t", " ")[:40] for done in said)
    notes = pathlib.Path("docs/fidelity.md")
    page = notes.read_text() if notes.exists() else ""
    lines = lines_of(rows)
    if ONLY:
        # What was not tried this time stays as it was.
        before = {tuple(line.split(" | ")[:2]): line for line in page.splitlines() if line.startswith("| ")}
        before = {(source[2:], target): line for (source, target), line in before.items()}
        lines = {pair: lines.get(pair) or before.get(pair) for pair in PAIR_NAMES}
    known = page.split("\n## ", 1)[1:]
    notes.write_text(table(filter(None, lines.values()), versions) + "".join(f"\n## {rest}" for rest in known))
    return 0 if all(row[2:5] == ["equal"] * 3 for row in rows) else 1


signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
try:
    sys.exit(main())
finally:
    for child in list(STARTED)[::-1]:
        end(child)
    shutil.rmtree(WORK, ignore_errors=True)
