#!/usr/bin/env python3
"""A year of daily runs with real files on a small loop-mounted drive, for each kind and for the job that folds for
ever: run by `scripts/test long`, as root.

At five random days every remaining point is restored and compared; the drive is watched all the time; what it holds
by day is compared with what `forecast` said after two months, and drawn into the picture named by the second word."""
import hashlib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import time

KESTRUM = os.path.abspath(sys.argv[1])
PICTURE = os.path.abspath(sys.argv[2])
DAYS = int(os.environ.get("KESTRUM_DAYS", "365"))
FORECAST_AT = min(60, DAYS // 2)
DRIVE_MIB = 192
LIMIT = 85
START = 1803931200  # 2027-03-01 20:00 UTC
WAYS = [
    ("full", ["--how-kind", "full"]),
    ("differential", ["--how-kind", "differential", "--how-renew", "first run of a month"]),
    ("incremental", ["--how-kind", "incremental", "--how-renew", "first run of a month"]),
    ("folded for ever", ["--how-kind", "incremental", "--how-renew", "never"]),
]
failures = []


def check(good, text):
    if not good:
        failures.append(text)
    print(("ok      " if good else "FAILED  ") + text, flush=True)


class Tree:
    """About 20 MB that change a little every day: lists are rewritten, photographs added, some things go."""

    def __init__(self, folder, seed):
        self.folder, self.random, self.seen, self.count = folder, random.Random(seed), {}, 0
        for _ in range(120):
            self.add_photo()
        for _ in range(60):
            self.write("lists/list-%03d.csv" % self.random.randrange(1000), self.list_text())

    def list_text(self):
        rows = ["%d,%d,ring %06d,%s" % (n, self.random.randrange(10**6), self.random.randrange(10**6),
                                        self.random.choice(["tern", "skua", "petrel", "wheatear"])) for n in range(600)]
        return "\n".join(rows).encode()

    def write(self, name, content):
        path = os.path.join(self.folder, name)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as file:
            file.write(content)
        self.seen[name] = hashlib.sha256(content).hexdigest()

    def add_photo(self):
        self.count += 1
        self.write("photos/%02d/img-%05d.jpg" % (self.count % 12, self.count), self.random.randbytes(150_000))

    def next_day(self):
        for name in self.random.sample(sorted(n for n in self.seen if n.startswith("lists/")), 6):
            self.write(name, self.list_text())
        self.add_photo()
        photos = sorted(n for n in self.seen if n.startswith("photos/"))
        gone = self.random.choice(photos)
        os.remove(os.path.join(self.folder, gone))
        del self.seen[gone]


def hashes(folder):
    found = {}
    for at, _, names in os.walk(folder):
        for name in names:
            path = os.path.join(at, name)
            with open(path, "rb") as file:
                found[os.path.relpath(path, folder)] = hashlib.sha256(file.read()).hexdigest()
    return found


class Watch(threading.Thread):
    """Looks every few milliseconds how full the drive is."""

    def __init__(self, folder):
        super().__init__(daemon=True)
        self.folder, self.most, self.going = folder, 0, True

    def run(self):
        while self.going:
            space = os.statvfs(self.folder)
            self.most = max(self.most, 1 - space.f_bavail / space.f_blocks)
            time.sleep(0.004)


class Desk:
    def __init__(self, folder, options):
        self.folder = folder
        self.source, self.drive = os.path.join(folder, "source"), os.path.join(folder, "drive")
        os.makedirs(self.source)
        os.makedirs(self.drive)
        image = os.path.join(folder, "drive.img")
        with open(image, "wb") as file:
            file.truncate(DRIVE_MIB << 20)
        subprocess.run(["mkfs.ext4", "-q", "-m", "0", image], check=True)
        subprocess.run(["mount", "-o", "loop", image, self.drive], check=True)
        self.now = START
        self.run("job", "define", "wardens", "--what-folders", self.source, "--where-destinations", self.drive,
                 "--where-same-disk", "accept", "--protect-encryption", "none", "--when-runs", "daily at 20:30",
                 "--keep-thin", "every point for 14 days", "--keep-thin", "one a week for 2 months",
                 "--keep-thin", "one a month for 1 year", "--keep-drive-limit", "%d%%" % LIMIT, *options)

    def run(self, *words, expect=(0,)):
        environment = dict(os.environ, KESTRUM_HOME=os.path.join(self.folder, "home"), KESTRUM_MACHINE="skerry-1", TZ="UTC",
                           KESTRUM_NOW=time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(self.now)))
        done = subprocess.run([KESTRUM, *words, "--json"], env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        if done.returncode not in expect:
            raise SystemExit("kestrum %s: exit %d\n%s" % (" ".join(words), done.returncode, done.stderr))
        return json.loads(done.stdout)

    def points(self):
        return self.run("points", "wardens")["points"]

    def unmount(self):
        subprocess.run(["umount", self.drive], check=True)


def live(name, options, folder):
    begin = time.monotonic()
    desk = Desk(folder, options)
    tree = Tree(desk.source, 7)
    chosen = set(random.Random(11).sample(range(30, DAYS), min(5, DAYS - 30)))
    as_it_was, actual, forecast = {}, [], None
    watch = Watch(desk.drive)
    watch.start()
    failed_runs, broken, restored, wrong = 0, 0, 0, 0
    for day in range(DAYS):
        desk.now = START + 1800 + day * 86400
        run = desk.run("run", "wardens", expect=(0, 9))["runs"][-1]
        if run["exit"]:
            failed_runs += 1
        else:
            as_it_was[run["point"]] = dict(tree.seen)
        broken += sum("is not kept" in line for line in run["upkeep"])
        points = desk.points()
        actual.append(sum(point["totals"]["stored-bytes"] for point in points))
        if day == FORECAST_AT:
            forecast = next(way for way in desk.run("forecast", "wardens", "--days", str(DAYS - day))["ways"] if way["own"])
        if day in chosen:
            for point in points:
                to = os.path.join(folder, "out")
                desk.run("restore", "wardens", desk.source, "--at", str(point["point"]), "--to", to, "--with-owners", "--with-set-id")
                restored += 1
                wrong += hashes(os.path.join(to, "source")) != as_it_was[point["point"]]
                shutil.rmtree(to)
        tree.next_day()
    watch.going = False
    watch.join()
    good = desk.run("verify", "wardens")["good"]
    last = desk.points()
    desk.unmount()
    check(wrong == 0 and restored > 20, "%s: %d restored points are exactly what was there, on five days" % (name, restored))
    check(good, "%s: everything verifies at the end; %d points are left of %d runs, %d without room" % (name, len(last), DAYS, failed_runs))
    check(failed_runs == 0, "%s: every run made its point" % name)
    check(watch.most <= LIMIT / 100, "%s: the drive was %.1f %% full at most (limit %d %%)" % (name, watch.most * 100, LIMIT))
    # Of day d in the forecast, the end: after that day's run.
    said = [day["stored-bytes"] for day in forecast["by-day"]]
    pairs = [(said[i], actual[FORECAST_AT + i]) for i in range(1, min(len(said), DAYS - FORECAST_AT))]
    apart = sorted(abs(a - b) / b for a, b in pairs)
    print("        %s: %.0f s; %d lines said that a limit broke a promise; holds %.1f MiB at the end; forecast at day %d: off by %.0f %% in the median, %.0f %% at most"
          % (name, time.monotonic() - begin, broken, actual[-1] / 2**20, FORECAST_AT, apart[len(apart) // 2] * 100, apart[-1] * 100), flush=True)
    return actual, said


def draw(results):
    script = "set terminal pngcairo size 1280,800 font 'DejaVu Sans,12' background '#ffffff'\nset output '%s'\n" % PICTURE
    for i, (_, actual, said) in enumerate(results):
        script += "$actual%d << END\n%sEND\n" % (i, "".join("%d %f\n" % (d, b / 2**20) for d, b in enumerate(actual)))
        script += "$said%d << END\n%sEND\n" % (i, "".join("%d %f\n" % (FORECAST_AT + d, b / 2**20) for d, b in enumerate(said)))
    script += ("set multiplot layout 2,2 title 'A year of daily runs on a drive of %d MiB: the sets on the drive, and what forecast said after %d days' font ',14'\n"
               "set border 3\nset tics nomirror\nset grid ytics lc rgb '#dddddd'\nset xrange [0:%d]\nset yrange [0:*]\nset xlabel 'day'\nset ylabel 'MiB'\n"
               "set key bottom right\n" % (DRIVE_MIB, FORECAST_AT, DAYS))
    for i, (name, _, _) in enumerate(results):
        script += ("set title '%s'\nplot $actual%d using 1:2 with lines lw 2 lc rgb '#2e75b6' title 'was', $said%d using 1:2 with lines lw 2 dt 2 lc rgb '#c77f1a' title 'forecast'\n"
                   % (name, i, i))
    subprocess.run(["gnuplot"], input=script + "unset multiplot\n", text=True, check=True)


def main():
    if os.geteuid() != 0:
        print("not run: mounting a loop drive needs root")
        return 0
    if shutil.disk_usage(tempfile.gettempdir()).free < 4 << 30:
        print("not run: 4 GiB of free disk are needed")
        return 0
    results = []
    for name, options in WAYS:
        folder = tempfile.mkdtemp(prefix="kestrum-year-")
        try:
            results.append((name, *live(name, options, folder)))
        finally:
            subprocess.run(["umount", "-q", os.path.join(folder, "drive")], check=False)
            shutil.rmtree(folder, ignore_errors=True)
    draw(results)
    print("%d checks failed" % len(failures))
    return 1 if failures else 0


sys.exit(main())
