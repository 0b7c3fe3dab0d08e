"""A desktop under Xvfb for script/fidelity: its display, its window manager, its Yadori, and the programs on it."""

import json, os, pathlib, signal, subprocess, tempfile, time

WORK = pathlib.Path(tempfile.mkdtemp(prefix="yadori-fidelity-"))
STARTED = []


def end(child):
    """Ends a program with its process group."""
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


class Desktop:
    """One display with its own Yadori."""

    def __init__(self, name, built):
        self.name, self.built, self.home = name, built, WORK / f"home-{name}"
        self.display = ":" + next(str(n) for n in range(90, 200) if not pathlib.Path(f"/tmp/.X{n}-lock").exists())
        user = WORK / f"user-{name}"
        for folder in (user, user / "run", self.home):
            folder.mkdir(mode=0o700)
        self.env = {**os.environ, "DISPLAY": self.display, "HOME": str(user), "XDG_RUNTIME_DIR": str(user / "run"), "LC_ALL": "C.UTF-8",
                    "GTK_THEME": "Adwaita", "NO_AT_BRIDGE": "1", "SAL_USE_VCLPLUGIN": "gtk3", "MOZ_DISABLE_CONTENT_SANDBOX": "1",
                    "DBUS_SESSION_BUS_ADDRESS": "disabled:"}
        self.start("Xvfb", self.display, "-screen", "0", "1280x900x24", "-nolisten", "tcp")
        until(lambda: self.run("xdotool", "getdisplaygeometry").returncode == 0)
        self.start("openbox")
        (self.home / "config.toml").write_text('[api]\nlisten = "127.0.0.1:0"\n[link]\nlisten = "127.0.0.1:0"\nfind = false\n')
        service = self.start(built / "yadorid", "--home", self.home, "--clipboard", "x11", stdout=subprocess.PIPE)
        assert service.stdout.readline().startswith(b"ready")

    def run(self, *command, **more):
        return subprocess.run([str(part) for part in command], env=self.env, capture_output=True, text=True, **more)

    def start(self, *command, **more):
        child = subprocess.Popen([str(part) for part in command], env=self.env, start_new_session=True, cwd=WORK,
                                 stdout=more.pop("stdout", subprocess.DEVNULL), stderr=subprocess.DEVNULL, **more)
        STARTED.append(child)
        return child

    def yadori(self, *arguments):
        done = self.run(self.built / "yadori", "--home", self.home, *arguments)
        if done.returncode:
            raise RuntimeError(f"yadori {' '.join(arguments)}: {done.stderr}")
        return done.stdout

    def newest(self):
        clips = json.loads(self.yadori("list", "-n", "1", "--json"))
        return clips[0] if clips else None

    def formats(self, clip):
        """The formats of a clip, or nothing if it is not here."""
        done = self.run(self.built / "yadori", "--home", self.home, "show", clip, "--json")
        return json.loads(done.stdout)["formats"] if done.returncode == 0 else []

    def windows(self, name):
        return self.run("xdotool", "search", "--onlyvisible", "--name", name).stdout.split()

    def window(self, name):
        return until(lambda: self.windows(name), 90)[-1]

    def keys(self, of, *pressed):
        self.run("xdotool", "windowactivate", "--sync", of)
        for key in pressed:
            self.run("xdotool", "key", "--clearmodifiers", key)
            time.sleep(0.4)

    def click(self, of, x, y, times=1):
        self.run("xdotool", "mousemove", "--window", of, x, y, "click", "--repeat", times, "--delay", "80", "1")
        time.sleep(0.4)
