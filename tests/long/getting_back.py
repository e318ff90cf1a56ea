#!/usr/bin/env python3
"""What getting back costs: run by `scripts/test long`. Finding in a million files over thirty points, the versions of a
file over four hundred points, one file out of a small and a large chain, many small files, and a point opened as
folders. Prints what it measured; exits 1 when something is not as promised. KESTRUM_SCALE=0.05 for a small trial."""
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "support"))
import independent_reader  # noqa: E402

KESTRUM = os.path.abspath(sys.argv[1])
PARTS = sys.argv[2:]
MEASURE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "support", "measure.py")
SCALE = float(os.environ.get("KESTRUM_SCALE", "1"))
failures = []


def check(good, text):
    print(("ok      " if good else "FAILED  ") + text, flush=True)
    if not good:
        failures.append(text)


def tell(text):
    print("        " + text, flush=True)


class Desk:
    """A job without encryption of files (the independent reader takes its catalogs apart), on a drive of its own folder."""

    def __init__(self, folder, encrypted=True):
        self.folder = folder
        self.source, self.drive = os.path.join(folder, "source"), os.path.join(folder, "drive")
        self.environment = dict(os.environ, KESTRUM_HOME=os.path.join(folder, "home"), KESTRUM_MACHINE="skerry-1", TZ="UTC")
        self.day = 0
        os.makedirs(self.source)
        os.makedirs(self.drive)
        key = ["--protect-encryption", "none"]
        if encrypted:
            with open(os.open(os.path.join(folder, "pass"), os.O_CREAT | os.O_WRONLY, 0o600), "w") as file:
                file.write("tern in the fog\n")
            key = ["--protect-passphrase", "file:" + os.path.join(folder, "pass")]
        self.kestrum("job", "define", "wardens", "--what-folders", self.source, "--where-destinations", self.drive, "--same-disk",
                     "--how-renew", "never", "--keep-points", "1000 points", "--check-after-run", "nothing", *key)

    def set_day(self):
        self.environment["KESTRUM_NOW"] = time.strftime("%Y-%m-%dT20:30:00Z", time.gmtime(1803931200 + 86400 * self.day))

    def kestrum(self, *words, expect=(0,)):
        self.set_day()
        done = subprocess.run([KESTRUM, *words], env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        if done.returncode not in expect:
            raise SystemExit("kestrum %s: exit %d\n%s" % (" ".join(words), done.returncode, done.stderr))
        return done.stdout

    def save(self):
        self.kestrum("run", "wardens", "--quiet")
        self.day += 1

    def measured(self, *words):
        """Seconds, bytes read by system calls."""
        self.set_day()
        result = os.path.join(self.folder, "measured.json")
        subprocess.run([sys.executable, MEASURE, result, KESTRUM, *words], env=self.environment, stdout=subprocess.DEVNULL, check=True)
        with open(result) as file:
            measured = json.load(file)
        if measured["exit"] != 0:
            raise SystemExit("kestrum %s: exit %d" % (" ".join(words), measured["exit"]))
        return measured["seconds"], measured["read"]

    def sets(self):
        folder = os.path.join(self.drive, "skerry-1", "wardens")
        return [os.path.join(folder, name) for name in sorted(os.listdir(folder)) if name[0] == "0"]


def median(values):
    return sorted(values)[len(values) // 2]


def small_files(folder, count, seed):
    """Names as people have them, a hundred a folder; contents of 200 to 4000 bytes."""
    chosen = random.Random(seed)
    words = ["tern", "plover", "ringing", "moth", "count", "track", "budget", "photo", "note", "list"]
    for number in range(count):
        into = os.path.join(folder, words[number // 100000 % 10], "%04d" % (number // 100))
        if number % 100 == 0:
            os.makedirs(into, exist_ok=True)
        name = "%s-%s-%06d.%s" % (chosen.choice(words), chosen.choice(words), number, chosen.choice(["csv", "txt", "jpg", "gpx"]))
        with open(os.path.join(into, name), "wb") as file:
            file.write(chosen.randbytes(chosen.randrange(200, 4000)) if count <= 200000 else b"%d\n" % (number % 5000))


def catalog_bytes(desk, into):
    """The plain content of all catalog frames of all sets, into one file compressed by zstd; gives its plain size."""
    size = 0
    plain = into + ".plain"
    with open(plain, "wb") as out:
        for folder in desk.sets():
            for content in catalog_frames(folder):
                out.write(content[2])
                size += len(content[2])
    subprocess.run(["zstd", "-q", "-f", "-3", plain, "-o", into], check=True)
    os.unlink(plain)
    return size


def finding(folder):
    desk = Desk(folder)
    count, points = int(1_000_000 * SCALE), 30
    small_files(desk.source, count, 1)
    desk.save()
    chosen = random.Random(2)
    folders = [os.path.join(top, name) for top, names, _ in os.walk(desk.source) for name in names if name.isdigit()]
    for point in range(1, points):
        for changed in chosen.sample(folders, max(1, len(folders) // 200)):
            for name in os.listdir(changed)[:3]:
                os.rename(os.path.join(changed, name), os.path.join(changed, "moved-%d-%s" % (point, name)))
            with open(os.path.join(changed, "new-%d.csv" % point), "w") as file:
                file.write("a count of %d\n" % point)
        desk.save()
    packed = os.path.join(folder, "catalogs.zst")
    size = catalog_bytes(desk, packed)
    tell("%d files in %d points; catalogs of %.1f MiB in all, %.1f MiB packed by zstd" % (count, points, size / 2**20, os.path.getsize(packed) / 2**20))
    first, whole, plain = [], [], []
    for _ in range(5):
        begin = time.monotonic()
        process = subprocess.Popen([KESTRUM, "find", "wardens", "new-17", "--all", "--every"], env=desk.environment, stdout=subprocess.PIPE,
                                   stderr=subprocess.DEVNULL)
        process.stdout.readline()
        first.append(time.monotonic() - begin)
        lines = len(process.stdout.read().splitlines())
        process.wait()
        whole.append(time.monotonic() - begin)
        begin = time.monotonic()
        subprocess.run("zstd -dc '%s' > /dev/null" % packed, shell=True, check=True)
        plain.append(time.monotonic() - begin)
    tell("find --all: first hit after %.2f s, all (%d lines) after %.2f s; zstd -dc of the same bytes: %.2f s (medians of 5)" % (
        median(first), lines, median(whole), median(plain)))
    check(median(first) < 1.0, "the first hit comes within a second: %.2f s" % median(first))
    ratio = median([a / b for a, b in zip(whole, plain)])
    check(ratio <= 3.0, "all of it takes at most 3 times zstd on the same bytes: %.2f" % ratio)


def versions(folder):
    desk = Desk(folder)
    points = int(400 * max(SCALE, 0.1))
    small_files(desk.source, 20000, 3)
    some = os.path.join(desk.source, "tern", "0042", "budget.csv")
    for point in range(points):
        if point % 40 == 0:
            with open(some, "w") as file:
                file.write("nets,%d\n" % point)
        with open(os.path.join(desk.source, "tern", "0007", "daily.csv"), "a") as file:
            file.write("%d\n" % point)
        desk.save()
    pages = sum(len(frame[1]) for frame in catalog_frames(desk.sets()[0]))
    document = json.loads(desk.kestrum("versions", "wardens", some, "--json"))
    found = sum(len(name["versions"]) for one in document["files"] for name in one["names"]) if "files" in document else -1
    tell("%d points of 20,000 files; %d versions of the file; %d pages of catalogs read; a single catalog has about %d" % (
        points, found, document["pages-read"], pages))
    check(document["pages-read"] < points * pages / 10, "the catalogs are not read whole: %d pages of %d" % (document["pages-read"], points * pages))


def catalog_frames(folder):
    """Kind, chunks and content of each."""
    one = independent_reader.Set(folder, b"tern in the fog")
    for file in one.core["files"]:
        one.check_file(file)
    for slot, data in one.files.items():
        at = 96
        while slot != 0 and at < len(data):
            length = 32 + int.from_bytes(data[at + 12:at + 16], "little")
            if data[at + 4] == 2:
                yield one.frame(slot, at, length)
            at += length


def one_file(folder):
    reads = {}
    for label, gib in (("small", 0.5 * SCALE), ("large", 5 * SCALE)):
        desk = Desk(os.path.join(folder, label))
        count = int(gib * 1024 / 10)
        for number in range(count):
            with open(os.path.join(desk.source, "sound-%04d.wav" % number), "wb") as file:
                file.write(os.urandom(10 << 20))
        desk.save()
        for round_number in range(3):
            with open(os.path.join(desk.source, "note-%d.txt" % round_number), "w") as file:
                file.write("x" * 1000)
            desk.save()
        os.unlink(os.path.join(desk.source, "sound-0000.wav"))
        for name in ("sound-%04d.wav" % (count // 2), "note-1.txt"):
            target = os.path.join(folder, "back-" + label + name)
            seconds, read = desk.measured("restore", "wardens", os.path.join(desk.source, name), "--to", target, "--quiet")
            reads[label, name.split("-")[0]] = read
            tell("%s chain (%.1f GiB): %s, %.1f MiB, comes back in %.2f s; %.1f MiB read" % (
                label, gib, name, os.path.getsize(os.path.join(desk.source, name)) / 2**20, seconds, read / 2**20))
        shutil.rmtree(os.path.join(folder, label))
    for kind, size in (("sound", 10 << 20), ("note", 1000)):
        check(reads["large", kind] < 1.5 * reads["small", kind] + (4 << 20),
              "reads go by the file, not by the chain: %s, %.1f and %.1f MiB" % (kind, reads["small", kind] / 2**20, reads["large", kind] / 2**20))


def many_small(folder):
    desk = Desk(folder)
    count = int(200_000 * SCALE)
    small_files(desk.source, count, 5)
    desk.save()
    ratios = []
    for round_number in range(3):
        target = os.path.join(folder, "back")
        begin = time.monotonic()
        desk.kestrum("restore", "wardens", desk.source, "--to", target, "--quiet")
        restored = time.monotonic() - begin
        shutil.rmtree(target)
        os.sync()
        begin = time.monotonic()
        subprocess.run(["cp", "-a", desk.source, target], check=True)
        subprocess.run(["sync", "-f", target], check=True)
        copied = time.monotonic() - begin
        shutil.rmtree(target)
        os.sync()
        ratios.append(restored / copied)
        tell("%d files: restored in %.1f s, copied and flushed in %.1f s" % (count, restored, copied))
    check(median(ratios) <= 1.5, "many small files come back in at most 1.5 times a copy: %.2f" % median(ratios))


def opened(folder):
    desk = Desk(folder)
    small_files(desk.source, int(100_000 * SCALE), 7)
    large = os.path.join(desk.source, "large.bin")
    with open(large, "wb") as file:
        for _ in range(int(2048 * SCALE)):
            file.write(os.urandom(1 << 20))
    desk.save()
    on = os.path.join(folder, "on")
    os.makedirs(on)
    desk.kestrum("open", "wardens", "--at", "latest", "--on", on)
    try:
        listed, browsed, read, restored = [], [], [], []
        for _ in range(3):
            begin = time.monotonic()
            entries = len(subprocess.run(["find", on], stdout=subprocess.PIPE, check=True).stdout.splitlines())
            listed.append(time.monotonic() - begin)
            begin = time.monotonic()
            desk.kestrum("browse", "wardens", "/", "--deep", "--json")
            browsed.append(time.monotonic() - begin)
        for _ in range(3):
            begin = time.monotonic()
            subprocess.run("cat '%s%s' > '%s'; sync -f '%s'" % (on, large, os.path.join(folder, "read"), folder), shell=True, check=True)
            read.append(time.monotonic() - begin)
            os.unlink(os.path.join(folder, "read"))
            begin = time.monotonic()
            desk.kestrum("restore", "wardens", large, "--to", os.path.join(folder, "out"), "--quiet")
            restored.append(time.monotonic() - begin)
            shutil.rmtree(os.path.join(folder, "out"))
        tell("%d entries: listed through open in %s s, by browse --deep --json in %s s" % (entries, spelt(listed), spelt(browsed)))
        tell("%d MiB: read through open in %s s, restored in %s s, both flushed" % (2048 * SCALE, spelt(read), spelt(restored)))
        check(listed[0] <= 2 * median(browsed), "a listing through open takes at most twice browse: %.2f (the first one)" % (listed[0] / median(browsed)))
        check(median(restored) / median(read) >= 0.7, "a large file reads through open at 0.7 or more of restore: %.2f" % (median(restored) / median(read)))
    finally:
        desk.kestrum("open", "--close", on)


def spelt(values):
    return ", ".join("%.2f" % value for value in values)


for part in (finding, versions, one_file, many_small, opened):
    if PARTS and part.__name__ not in PARTS:
        continue
    free = shutil.disk_usage(tempfile.gettempdir()).free
    if free < 20 * 2**30 * SCALE:
        print("skipped: %.1f GiB free, 20 are needed" % (free / 2**30))
        sys.exit(0)
    print(part.__name__.replace("_", " "))
    folder = tempfile.mkdtemp(prefix="kestrum-long-")
    try:
        part(folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
sys.exit(1 if failures else 0)
