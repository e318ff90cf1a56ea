"""Holds docs/JSON.md to what the program prints: every member of every document, with its kind of value.
json_members.py KESTRUM check|accept PAGE"""

import json
import os
import re
import subprocess
import sys
import tempfile

KESTRUM, MODE, PAGE = sys.argv[1:4]
BEGIN, END = "<!-- members -->\n", "<!-- end of members -->\n"
MAPS = {"unknown-owners"}  # whose members are names


class Desk:
    def __init__(self, folder):
        self.folder = folder
        self.documents = {}
        self.day("2027-03-01")
        for name in ("source", "drive", "second"):
            os.mkdir(self.path(name))
        with open(self.path("pass"), "w") as file:
            file.write("grey seal under the pier\n")
        os.chmod(self.path("pass"), 0o600)

    def path(self, name):
        return os.path.join(self.folder, name)

    def day(self, date):
        self.environment = {"PATH": "/usr/bin:/bin", "TZ": "UTC", "LC_ALL": "C.UTF-8", "KESTRUM_MACHINE": "skerry-1",
                            "KESTRUM_HOME": self.path("home"), "KESTRUM_NOW": date + "T20:30:00Z"}

    def write(self, name, text):
        os.makedirs(os.path.dirname(self.path(name)), exist_ok=True)
        with open(self.path(name), "wb") as file:
            file.write(text if isinstance(text, bytes) else text.encode())

    def __call__(self, *words):
        done = subprocess.run([KESTRUM, *words, "--json"], env=self.environment, capture_output=True, text=True)
        assert done.stdout.startswith("{"), (words, done.stdout, done.stderr)
        document = json.loads(done.stdout)
        members = self.documents.setdefault(document["kestrum"], {})
        collect(document, "", members)
        return document


def kind(value):
    for kinds, word in (((bool,), "yes or no"), ((int, float), "number"), ((str,), "text"), ((list,), "list"), ((dict,), "object")):
        if isinstance(value, kinds):
            return word
    return "null"


def collect(value, path, members):
    if isinstance(value, dict):
        for key, one in value.items():
            below = f"{path}.{key}" if path else key
            members.setdefault(below, set()).add(kind(one))
            if key not in MAPS:
                collect(one, below, members)
    elif isinstance(value, list):
        for one in value:
            if not isinstance(one, (dict, list)):
                members.setdefault(path + "[]", set()).add(kind(one))
            collect(one, path + "[]", members)


def play(desk):
    """Every verb, with what makes its members appear."""
    desk.write("source/list.csv", "3,Gannet\n")
    os.symlink("list.csv", desk.path("source/link"))
    os.makedirs(desk.path("on"))
    odd = os.path.join(os.fsencode(desk.path("source")), b"odd\xff")
    open(odd, "w").close()
    define = ["--what-folders", desk.path("source"), "--where-destinations", desk.path("drive"), "--same-disk",
              "--protect-passphrase", "file:" + desk.path("pass"), "--when-runs", "daily at 20:30"]
    desk("job", "define", "wardens", *define, "--what-description", "the lists", "--keep-points", "2 points",
         "--where-destinations", desk.path("second"), "--where-use", "all connected")
    desk("preview", "wardens")
    desk("preview", "wardens", "--why", desk.path("source/list.csv"))
    for day, kinds in enumerate(("full", "incremental", "full", "incremental", "full"), 1):
        desk.day(f"2027-03-0{day}")
        desk.write("source/list.csv", "Gannet\n" * day)
        desk.write(f"source/new-{day}", "x")
        if day == 4:
            os.remove(desk.path("source/new-2"))
        desk("run", "wardens", "--kind", kinds)
    desk("preview", "wardens")
    for words in (["job", "list"], ["job", "show", "wardens"], ["job", "check", "wardens"], ["points", "wardens"],
                  ["points", desk.path("drive")], ["status"], ["status", desk.path("drive")], ["history", "wardens"],
                  ["pause", "wardens", "--for", "2 hours"], ["status"], ["schedule", "wardens"], ["continue", "wardens"],
                  ["history", "wardens", "--run", "7", "--files"], ["browse", "wardens", desk.path("source")],
                  ["find", "wardens", "list"], ["find", "wardens", "new-1"], ["find", "wardens", "list", "--at", "drive:4"],
                  ["restore", "wardens", desk.path("source"), "--to", desk.path("back")],
                  ["restore", "wardens", desk.path("source"), "--to", desk.path("back"), "--dry"],
                  ["restore", "wardens", desk.path("source"), "--to", desk.path("back"), "--list", desk.path("list.json")],
                  ["history", "--restores"], ["find", "wardens", "*", "--all", "--type", "file"],
                  ["versions", "wardens", desk.path("source/list.csv")], ["compare", "wardens", "--at", "drive:3", "--with", "drive:4"],
                  ["compare", "wardens", "--at", "drive:4"], ["compare", "wardens", desk.path("source/list.csv"), "--at", "drive:3", "--with", "drive:4"],
                  ["open", "wardens", "--at", "drive:4", "--on", desk.path("on")], ["open", "--close", desk.path("on")],
                  ["verify", "wardens"], ["drill", "wardens", "--seed", "7", "--rebuild"], ["repair", "wardens", "--dry"], ["prune", "wardens", "--dry"], ["prune", "wardens"], ["fold", "wardens", "--beyond-rules", "--yes"],
                  ["keep", "wardens", "drive:5", "--because", "the count of spring"], ["points", "wardens"], ["keep", "wardens"],
                  ["drop", "wardens", "drive:4", "--dry"], ["drop", "wardens", "drive:4", "--yes"],
                  ["forecast", "wardens", "--days", "7"], ["job", "edit", "wardens", "--how-compression", "small"],
                  ["job", "copy", "wardens", "moths"], ["job", "rename", "moths", "lists"], ["job", "disable", "lists"], ["job", "enable", "lists"],
                  ["job", "remove", "lists"], ["job", "rebuild", "lists", "--from", desk.path("drive"), "--passphrase", "file:" + desk.path("pass"), "--same-disk"],
                  ["recovery", "create", desk.path("key"), "--same-disk"], ["--version"],
                  ["points", "nobody"]):
        desk(*words)
    # Damage, a drive that is away, an earlier passphrase.
    sets = os.path.join(desk.path("drive"), "skerry-1/wardens")
    newest = os.path.join(sets, sorted(one for one in os.listdir(sets) if one[0].isdigit())[-1], "data-001.kvol")
    with open(newest, "r+b") as volume:
        volume.seek(100)
        byte = volume.read(1)
        volume.seek(100)
        volume.write(bytes([byte[0] ^ 1]))
    os.rename(desk.path("second"), desk.path("away"))
    desk("verify", "wardens")
    desk("drill", "wardens", "--seed", "7")
    desk("points", "wardens")
    desk("status")
    desk("restore", "wardens", desk.path("source"), "--to", desk.path("back"))
    desk("run", "wardens")
    desk.write("pass", "another one altogether\n")
    desk.day("2027-03-07")
    desk("run", "wardens", "--new-passphrase")
    desk("points", "wardens")
    desk.day("2027-03-09")
    desk("schedule")
    desk("run", "--due")
    desk("history", "wardens")
    desk("report")
    desk("report", desk.path("drive"))
    desk("settings", "show")
    desk("settings", "set", "--mail-server", "localhost:1", "--mail-security", "none", "--mail-to", "office@skerrypoint.example")
    desk("settings", "check")
    desk("tell", "wardens", "--test")
    desk("tell")
    desk("status")
    guarded(desk)


def guarded(desk):
    """Ways in, and a point that is suspect."""
    for one in range(30):
        desk.write(f"moths/trap-{one}.csv", "Hawk moth\n" * 90)
    desk.write("pass-2", "puffin under the cliff\n")
    desk.write("pass-3", "auk on the rock again\n")
    for name in ("pass-2", "pass-3"):
        os.chmod(desk.path(name), 0o600)
    desk("job", "define", "moths", "--what-folders", desk.path("moths"), "--where-destinations", desk.path("drive"),
         "--where-destinations", desk.path("nowhere"), "--same-disk", "--protect-passphrase", "file:" + desk.path("pass-2"))
    desk("run", "moths")
    desk("passphrase", "test", "moths")
    desk("passphrase", "test", "moths", "--passphrase", "file:" + desk.path("pass-3"))
    desk("recovery", "add", "moths", desk.path("key.pub"))
    desk("passphrase", "test", "moths", "--recovery-key", desk.path("key"))
    desk("status")
    desk("passphrase", "change", "moths", "--new", "file:" + desk.path("pass-3"))
    desk("job", "show", "moths")
    for one in range(12):
        desk.write(f"moths/trap-{one}.csv.fulmar", bytes(range(256)) * 4)
        os.remove(desk.path(f"moths/trap-{one}.csv"))
    for one in range(12, 24):
        desk.write(f"moths/trap-{one}.csv", os.urandom(900))
    desk("run", "moths")
    desk("guard", "moths")
    desk("points", "moths")
    desk("status")
    desk("guard", "moths", "--reject", "2")
    desk("points", "moths")


def text_of(documents):
    out = []
    for name in sorted(documents):
        rows = documents[name]
        width = max(len(row) for row in rows)
        lines = [f"{row.ljust(width)}  {', '.join(sorted(rows[row]))}" for row in rows]
        out.append(f"### {name}\n```\n" + "\n".join(lines) + "\n```\n")
    return "\n".join(out)


def documented(page):
    documents = {}
    for name, body in re.findall(r"^### (\S+)\n```\n(.*?)\n```", page, re.M | re.S):
        documents[name] = {}
        for line in body.split("\n"):
            path, kinds = line.split("  ", 1)
            documents[name][path.strip()] = set(kinds.strip().split(", "))
    return documents


def main():
    with tempfile.TemporaryDirectory(prefix="kestrum-json-") as folder:
        desk = Desk(folder)
        play(desk)
    page = open(PAGE).read()
    begin, end = page.index(BEGIN) + len(BEGIN), page.index(END)
    if MODE == "accept":
        open(PAGE, "w").write(page[:begin] + text_of(desk.documents) + page[end:])
        return 0
    wrong, said = [], documented(page[begin:end])
    for name, members in desk.documents.items():
        for path, kinds in members.items():
            more = kinds - said.get(name, {}).get(path, set())
            if more:
                wrong.append(f"{name}: {path} is {', '.join(sorted(more))}: not documented")
    for name, members in said.items():
        for path in members:
            if path not in desk.documents.get(name, {}):
                wrong.append(f"{name}: {path} is documented and does not come")
    print("\n".join(wrong) or "the JSON documents are as they are documented")
    return 1 if wrong else 0


sys.exit(main())
