#!/usr/bin/env python3
"""What folding costs: run by `scripts/test long`. Time against copying and reading back the same bytes, peak memory,
and space; of large files, and of very many small ones."""
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time

KESTRUM = os.path.abspath(sys.argv[1])
MEASURE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "support", "measure.py")
failures = []


def check(good, text):
    if not good:
        failures.append(text)
    print(("ok      " if good else "FAILED  ") + text, flush=True)


class Desk:
    def __init__(self, folder, *options):
        self.folder = folder
        self.source, self.drive = os.path.join(folder, "source"), os.path.join(folder, "drive")
        os.makedirs(self.source)
        os.makedirs(self.drive)
        self.environment = dict(os.environ, KESTRUM_HOME=os.path.join(folder, "home"), KESTRUM_MACHINE="skerry-1")
        password = os.path.join(folder, "pass")
        with open(os.open(password, os.O_CREAT | os.O_WRONLY, 0o600), "w") as file:
            file.write("tern in the fog\n")
        self.run("job", "define", "wardens", "--what-folders", self.source, "--where-destinations", self.drive, "--where-same-disk",
                 "accept", "--protect-passphrase", "file:" + password, "--keep-points", "1000 points", "--check-after-run", "nothing", *options)

    def run(self, *words):
        result = os.path.join(self.folder, "measured.json")
        done = subprocess.run([sys.executable, MEASURE, result, KESTRUM, *words, "--json"], env=self.environment, stdout=subprocess.PIPE,
                              stderr=subprocess.PIPE, text=True, check=True)
        with open(result) as file:
            measured = json.load(file)
        if measured["exit"] != 0:
            raise SystemExit("kestrum %s: exit %d\n%s" % (" ".join(words), measured["exit"], done.stderr))
        return json.loads(done.stdout), measured["seconds"], measured["memory"]


def copy_and_read_back(drive, scratch, wanted):
    """Seconds to copy so many bytes of the sets, flush them, and read them from the drive again."""
    os.makedirs(scratch)
    begin = time.monotonic()
    done = 0
    for at, _, names in os.walk(drive):
        for name in names:
            if not name.endswith(".kvol") or done >= wanted:
                continue
            target = os.path.join(scratch, "%d" % done)
            with open(os.path.join(at, name), "rb") as source, open(target, "wb") as out:
                while done < wanted:
                    piece = source.read(min(4 << 20, wanted - done))
                    if not piece:
                        break
                    out.write(piece)
                    done += len(piece)
                out.flush()
                os.fsync(out.fileno())
                os.posix_fadvise(out.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            with open(target, "rb") as out:
                while out.read(4 << 20):
                    pass
    seconds = time.monotonic() - begin
    shutil.rmtree(scratch)
    return seconds


def drop(folder):
    for at, _, names in os.walk(folder):
        for name in names:
            descriptor = os.open(os.path.join(at, name), os.O_RDONLY)
            os.fsync(descriptor)
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
            os.close(descriptor)


def fold(desk, name, keys_seconds):
    before = desk.run("points", "wardens")[0]["points"]
    last = str(before[-1]["point"])
    plan = desk.run("fold", "wardens", "--last", last, "--dry")[0]["destinations"][0]["batches"][0]
    drop(desk.drive)
    copying = copy_and_read_back(desk.drive, os.path.join(desk.folder, "scratch"), plan["copied-bytes"])
    drop(desk.drive)
    free = shutil.disk_usage(desk.drive).free
    document, seconds, memory = desk.run("fold", "wardens", "--last", last)
    result = document["destinations"][0]
    print("        %s: %d sets of %.0f MiB, of which %.0f MiB stay as they lie and %.0f MiB are written again, became %.0f MiB" %
          (name, len(before), result["stored-bytes-before"] / 2**20, plan["kept-bytes"] / 2**20, plan["copied-bytes"] / 2**20,
           result["stored-bytes-after"] / 2**20))
    print("        %.1f s, of which %.2f s are the passphrase's; copying and reading back the same %.0f MiB: %.1f s; ratio %.2f" %
          (seconds, keys_seconds, plan["copied-bytes"] / 2**20, copying, (seconds - keys_seconds) / copying))
    check(memory < 200 * 1024, "%s: peak memory %.0f MiB (under 200)" % (name, memory / 1024))
    check(plan["needed-bytes"] < plan["copied-bytes"] * 1.2 + (64 << 20), "%s: it said before that it needs %.0f MiB for a while" % (name, plan["needed-bytes"] / 2**20))
    verified = desk.run("verify", "wardens")[0]
    check(verified["good"] and len(verified["points"]) == 1, "%s: one point is left, and it is good (%.0f MiB more free)" %
          (name, (shutil.disk_usage(desk.drive).free - free) / 2**20))


def large_files(folder, days):
    desk = Desk(folder, "--how-renew", "never", "--how-volume-size", "100 MiB")
    rng = random.Random(1)
    sizes = 40
    for n in range(sizes):
        with open(os.path.join(desk.source, "sound-%02d.wav" % n), "wb") as file:
            file.write(rng.randbytes(25 << 20))
    desk.run("run", "wardens")
    keys = desk.run("fold", "wardens", "--dry")[1]
    for day in range(days):
        for n in rng.sample(range(sizes), 3):
            with open(os.path.join(desk.source, "sound-%02d.wav" % n), "r+b") as file:
                file.seek(rng.randrange(20 << 20))
                file.write(rng.randbytes(3 << 20))
        with open(os.path.join(desk.source, "sound-%02d.wav" % rng.randrange(sizes)), "wb") as file:
            file.write(rng.randbytes(25 << 20))
        desk.run("run", "wardens")
    fold(desk, "large files, %d days" % days, keys)


def small_files(folder, count):
    desk = Desk(folder, "--how-renew", "never")
    rng = random.Random(2)
    for n in range(count):
        where = os.path.join(desk.source, "%03d" % (n // 1000))
        if n % 1000 == 0:
            os.makedirs(where)
        with open(os.path.join(where, "ring-%07d" % n), "wb") as file:
            file.write(b"%d " % n * 12)
    desk.run("run", "wardens")
    keys = desk.run("fold", "wardens", "--dry")[1]
    for day in range(5):
        for n in rng.sample(range(count), 2000):
            with open(os.path.join(desk.source, "%03d" % (n // 1000), "ring-%07d" % n), "ab") as file:
                file.write(b"day %d\n" % day)
        desk.run("run", "wardens")
    fold(desk, "%d small files" % count, keys)


def main():
    if shutil.disk_usage(tempfile.gettempdir()).free < 12 << 30:
        print("not run: 12 GiB of free disk are needed")
        return 0
    for what in (lambda folder: large_files(folder, 3), lambda folder: large_files(folder, 12), lambda folder: small_files(folder, 1_000_000)):
        folder = tempfile.mkdtemp(prefix="kestrum-fold-")
        try:
            what(folder)
        finally:
            shutil.rmtree(folder, ignore_errors=True)
    print("%d checks failed" % len(failures))
    return 1 if failures else 0


sys.exit(main())
