#!/usr/bin/env python3
"""The evidence on a real tree of at least 100,000 files, and on a file of 2 GiB: run by `scripts/test long`.

Prints what it measured; exits 1 when something is not as promised, 0 with a message when the disk is too short."""
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile
import time

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "support"))
import compare_trees  # noqa: E402

KESTRUM = os.path.abspath(sys.argv[1])
MEASURE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "support", "measure.py")
WANTED_FILES = 104_000  # links among them
failures = []


def check(good, text):
    print(("ok      " if good else "FAILED  ") + text, flush=True)
    if not good:
        failures.append(text)


def mib(size):
    return "%.2f MiB" % (size / 2**20)


class Desk:
    def __init__(self, folder):
        self.folder = folder
        self.source = os.path.join(folder, "source")
        self.drive = os.path.join(folder, "drive")
        self.environment = dict(os.environ, KESTRUM_HOME=os.path.join(folder, "home"), KESTRUM_MACHINE="skerry-1")
        os.makedirs(self.source)
        os.makedirs(self.drive)
        passphrase = os.path.join(folder, "pass")
        with open(os.open(passphrase, os.O_CREAT | os.O_WRONLY, 0o600), "w") as file:
            file.write("tern in the fog\n")
        self.run("job", "define", "wardens", "--what-folders", self.source, "--where-destinations", self.drive,
                 "--protect-passphrase", "file:" + passphrase)

    def run(self, *words, expect=0):
        """Runs the program; gives its JSON, seconds, peak memory in KiB and bytes read by system calls."""
        result = os.path.join(self.folder, "measured.json")
        done = subprocess.run([sys.executable, MEASURE, result, KESTRUM, *words, "--json"], env=self.environment, stdout=subprocess.PIPE,
                              stderr=subprocess.PIPE, text=True, check=True)
        with open(result) as file:
            measured = json.load(file)
        if measured["exit"] != expect:
            raise SystemExit("kestrum %s: exit %d\n%s" % (" ".join(words), measured["exit"], done.stderr))
        return json.loads(done.stdout), measured["seconds"], measured["memory"], measured["read"]

    def save(self, *words):
        document, seconds, memory, _ = self.run("run", "wardens", *words)
        run = document["runs"][0]
        totals = run["totals"]
        print("        point %d %s: %d files, %s, read %s, stored %s, %.1f s, peak memory %s" % (
            run["point"], run["kind"], totals["files"], mib(totals["bytes"]), mib(totals["read-bytes"]),
            mib(totals["stored-bytes"]), seconds, mib(memory * 1024)), flush=True)
        return run, memory

    def restored(self, point):
        target = os.path.join(self.folder, "restored")
        shutil.rmtree(target, ignore_errors=True)
        _, seconds, memory, _ = self.run("restore", "wardens", self.source, "--at", str(point), "--to", target, "--with-owners", "--quiet")
        print("        restored point %d in %.1f s, peak memory %s" % (point, seconds, mib(memory * 1024)), flush=True)
        return os.path.join(target, "source")


def copy_real_tree(target):
    """Copies parts of /usr until there are enough files."""
    count = 0
    for round_number in range(1, 20):
        for part in ("share", "include", "lib", "bin", "sbin", "src", "local"):
            folder = os.path.join("/usr", part)
            for name in sorted(os.listdir(folder)) if os.path.isdir(folder) else []:
                into = os.path.join(target, "copy-%d" % round_number, part)
                os.makedirs(into, exist_ok=True)
                subprocess.run(["cp", "-a", os.path.join(folder, name), into], check=False, stderr=subprocess.DEVNULL)
                copied = os.path.join(into, name)
                count += sum(len(files) for _, _, files in os.walk(copied)) if os.path.isdir(copied) else 1
                if count >= WANTED_FILES:
                    return count
    return count


def frames_by_kind(folder):
    """Bytes of frames by kind, from their heads, which lie open (docs/FORMAT.md section 5)."""
    sizes = {}
    for name in os.listdir(folder):
        if not name.endswith(".kvol"):
            continue
        path = os.path.join(folder, name)
        with open(path, "rb") as file:
            at, end = 96, os.path.getsize(path)
            while at < end:
                file.seek(at)
                head = file.read(16)
                kind, box = head[4], struct.unpack("<I", head[12:16])[0]
                sizes[kind] = sizes.get(kind, 0) + 32 + box
                at += 32 + box
    return sizes


def folder_bytes(folder):
    return sum(os.path.getsize(os.path.join(folder, name)) for name in os.listdir(folder))


def churn(source, seed):
    """Edits, deletes, renames, adds, changes attributes: about two percent."""
    chosen = random.Random(seed)
    files = [os.path.join(folder, name) for folder, _, names in os.walk(source) for name in names]
    files = [path for path in sorted(files) if not os.path.islink(path) and os.path.isfile(path)]
    for path in chosen.sample(files, len(files) // 50):
        step = chosen.randrange(5)
        if step == 0:
            os.unlink(path)
        elif step == 1:
            with open(path, "ab") as file:
                file.write(b"one more line\n")
        elif step == 2:
            os.rename(path, path + ".moved")
        elif step == 3:
            os.chmod(path, 0o600)
        else:
            with open(path + ".new", "wb") as file:
                file.write(chosen.randbytes(chosen.randrange(20000)))


def many_files(folder):
    desk = Desk(folder)
    count = copy_real_tree(desk.source)
    print("        a copy of %d files" % count)
    time.sleep(4)
    expected = {1: compare_trees.manifest(desk.source)}
    full, memory = desk.save()
    check(full["totals"]["files"] >= 100_000, "the tree has at least 100,000 files")
    catalog = frames_by_kind(full["set-folder"]).get(2, 0)
    print("        its catalog takes %s, its index %s" % (
        mib(catalog), mib(os.path.getsize(os.path.join(full["set-folder"], "index.kidx")))))
    check(memory < 200 * 1024, "peak memory of the full is under 200 MiB: %s" % mib(memory * 1024))

    still, memory = desk.save()
    expected[2] = expected[1]
    added = folder_bytes(still["set-folder"])
    check(still["totals"]["read-bytes"] == 0, "a no-change increment reads no file")
    check(added < catalog / 100, "it adds %d bytes, under 1 %% of the catalog (%.2f %%)" % (added, 100 * added / catalog))

    churn(desk.source, 1)
    expected[3] = compare_trees.manifest(desk.source)
    desk.save()
    churn(desk.source, 2)
    expected[4] = compare_trees.manifest(desk.source)
    desk.save("--kind", "differential")
    for point, tree in expected.items():
        found = compare_trees.differences(tree, compare_trees.manifest(desk.restored(point)))
        check(not found, "point %d restored without a difference%s" % (point, "".join("\n          " + word for word in found)))
    shutil.rmtree(os.path.join(folder, "restored"))

    one = sorted(path for path in expected[1][0] if path.endswith(b".py") and len(expected[1][0][path]) == 9 and 2000 < expected[1][0][path][5] < 20000)[77]
    path = os.path.join(desk.source, os.fsdecode(one))
    _, seconds, memory, read = desk.run("restore", "wardens", path, "--at", "1", "--to", os.path.join(folder, "one"))
    check(0 <= read < (10 << 20) + (4 << 20), "one file restored with %s read, its frame of up to 4 MiB in it, %.2f s" % (mib(read), seconds))
    check(memory < 150 * 1024, "peak memory of it (64 MiB are the key's): %s" % mib(memory * 1024))
    result, seconds, memory, _ = desk.run("verify", "wardens")
    check(result["good"], "verify --depth all finds everything good in %.1f s, peak memory %s" % (seconds, mib(memory * 1024)))


def large_file(folder):
    desk = Desk(folder)
    path = os.path.join(desk.source, "mail.store")
    chosen = random.Random(9)
    with open(path, "wb") as file:
        for _ in range(2048):
            file.write(chosen.randbytes(1 << 20))
    full, _ = desk.save()
    with open(path, "rb") as old, open(path + ".new", "wb") as new:
        new.write(b"ten bytes!")
        shutil.copyfileobj(old, new, 1 << 20)
    os.rename(path + ".new", path)
    increment, _ = desk.save()
    added = folder_bytes(increment["set-folder"])
    check(added < 8 << 20, "10 bytes at the front of 2 GiB cost an increment of %s" % mib(added))
    expected = compare_trees.manifest(desk.source)
    found = compare_trees.differences(expected, compare_trees.manifest(desk.restored(2)))
    check(not found, "the 2 GiB file comes back as it is")
    shutil.rmtree(os.path.join(folder, "restored"))

    os.mkdir(os.path.join(desk.source, "folder"))
    os.rename(path, os.path.join(desk.source, "folder", "mail.store"))
    desk.save()
    os.rename(os.path.join(desk.source, "folder"), os.path.join(desk.source, "renamed"))
    renamed, _ = desk.save()
    content = frames_by_kind(renamed["set-folder"]).get(1, 0)
    check(content == 0, "a renamed folder of 2 GiB adds %d bytes of content, %d in all" % (content, folder_bytes(renamed["set-folder"])))


def main():
    parts = {"many files": (many_files, 30), "large file": (large_file, 12)}
    for name, (part, wanted_gib) in parts.items():
        free = shutil.disk_usage(tempfile.gettempdir()).free / 2**30
        if free < wanted_gib:
            print("skipped: %s needs %d GiB in %s, %.0f are free" % (name, wanted_gib, tempfile.gettempdir(), free))
            continue
        print(name)
        with tempfile.TemporaryDirectory(prefix="kestrum-long-") as folder:
            part(folder)
    print("%d failures" % len(failures))
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())
