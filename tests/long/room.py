#!/usr/bin/env python3
"""A year of daily runs on small drives that hold what the guide's recipes say, at 22, 44 and 66 % of change in two weeks,
on tmpfs and ext4: run by `scripts/test long room`, as root. A run must never fail; the points by day are drawn beside
what is promised, into the picture named by the second word. At the end every point is checked."""
import os
import random
import subprocess
import sys
import tempfile
import threading
import time

KESTRUM = os.path.abspath(sys.argv[1])
PICTURE = os.path.abspath(sys.argv[2])
DAYS = int(os.environ.get("KESTRUM_DAYS", "365"))
FILES, SIZE = 48, 500000  # 23 MiB
START = 1798835400  # 2027-01-01 20:30 UTC
# Name, MiB of the drive, options, points promised once that many days have passed.
WAYS = [
    ("two weeks, every day", 48, ["--how-renew", "never", "--keep-thin", "every point for 14 days"], 15),
    ("three days, endless", 40, ["--how-renew", "never", "--keep-thin", "every point for 3 days"], 4),
    ("thinned, endless", 96, ["--how-renew", "never", "--keep-thin", "every point for 7 days", "--keep-thin", "one a week for 2 months"], 15),
    ("ten fulls", 290, ["--how-kind", "full", "--keep-points", "10 points"], 10),
    ("differentials, 30 days", 380, ["--how-kind", "differential", "--how-renew", "every 14 sets", "--keep-age", "30 days"], 31),
    ("increments, 30 days", 160, ["--how-renew", "every 30 sets", "--keep-age", "30 days"], 31),
]
RATES = (22, 44, 66)
failures = []
results = {}
lock = threading.Lock()


def check(good, text):
    with lock:
        if not good:
            failures.append(text)
        print(("ok      " if good else "FAILED  ") + text, flush=True)


def mount(kind, folder, mib, image):
    if kind == "tmpfs":
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=%dm" % mib, "tmpfs", folder], check=True)
        return
    with open(image, "wb") as file:
        file.truncate(mib << 20)
    subprocess.run(["mkfs.ext4", "-q", "-m", "0", "-O", "^has_journal", image], check=True)
    subprocess.run(["mount", "-o", "loop", image, folder], check=True)


def live(kind, way, rate):
    name, mib, options, promised = way
    with tempfile.TemporaryDirectory(prefix="kestrum-room-", dir="/dev/shm") as home:
        source, drive = home + "/source", home + "/drive"
        os.mkdir(source)
        os.mkdir(drive)
        mount(kind, drive, mib + (mib // 12 if kind == "ext4" else 0), home + "/image")
        try:
            live_on(home, source, drive, kind, name, options, promised, rate)
        finally:
            subprocess.run(["umount", drive], check=True)


def live_on(home, source, drive, kind, name, options, promised, rate):
    dice = random.Random(5)
    environment = dict(os.environ, KESTRUM_HOME=home + "/home", KESTRUM_MACHINE="skerry-1", TZ="UTC")

    def kestrum(day, *words):
        environment["KESTRUM_NOW"] = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(START + 86400 * day))
        return subprocess.run([KESTRUM, *words], env=environment, capture_output=True, text=True)

    def change(file):
        with open("%s/sound-%d" % (source, file), "wb") as out:
            out.write(dice.randbytes(SIZE))

    for file in range(FILES):
        change(file)
    defined = kestrum(0, "job", "define", "wardens", "--what-folders", source, "--where-destinations", drive, "--same-disk",
                      "--protect-encryption", "none", "--check-after-run", "nothing", *options)
    assert defined.returncode == 0, defined.stderr
    due, failed, broken, points = 0.0, 0, 0, []
    for day in range(DAYS):
        due += FILES * rate / 1400 if day else 0
        while due >= 1:
            change(dice.randrange(FILES))
            due -= 1
        ran = kestrum(day, "run", "wardens", "--quiet")
        failed += ran.returncode not in (0, 1)
        broken += ran.returncode == 1
        points.append(sum(1 for one in os.listdir(drive + "/skerry-1/wardens") if one[0] == "0"))
    good = kestrum(DAYS, "verify", "wardens", "--depth", "all").returncode == 0
    settled = 75  # days, by when all rules have something to say
    least = min(points[settled:] or points)
    with lock:
        results[(kind, name, rate)] = (points, promised)
    check(failed == 0 and good, "%s, %s, %d %%: %d days, %d failed, %d with problems; at least %d points after day 75, promised %d; %s"
          % (kind, name, rate, DAYS, failed, broken, least, promised, "all good" if good else "DAMAGED"))
    if broken == 0 and DAYS > settled:
        check(least >= promised, "%s, %s, %d %%: no problem was told, and what is promised is there" % (kind, name, rate))


def draw():
    script = ["set terminal pngcairo size 1280,1000 font 'sans,9'", "set output '%s'" % PICTURE,
              "set multiplot layout 3,2 title 'Points by day (lines), and what is promised (dashed); ext4'", "set key bottom right",
              "set xlabel 'day'", "set yrange [0:*]", "set offsets 0, 0, graph 0.1, 0", "set grid"]
    blocks = []
    for number, way in enumerate(WAYS):
        plots = []
        for width, rate in zip((6, 4, 2), RATES):  # they mostly lie upon each other
            points, promised = results[("ext4", way[0], rate)]
            name = "$w%d_%d" % (number, rate)
            blocks.append("%s << EOD\n%s\nEOD" % (name, "\n".join("%d %d" % pair for pair in enumerate(points))))
            plots.append("%s with lines lw %d title '%d %%'" % (name, width, rate))
        plots.append("%d dashtype 2 lc 'black' title 'promised'" % way[3])
        script.append("set title '%s, on %d MiB'" % (way[0], way[1]))
        script.append("plot " + ", ".join(plots))
    subprocess.run(["gnuplot"], input="\n".join(blocks + script + ["unset multiplot"]), text=True, check=True)


def main():
    work = [(kind, way, rate) for kind in ("ext4", "tmpfs") for way in WAYS for rate in RATES]

    def worker():
        while True:
            with lock:
                if not work:
                    return
                one = work.pop(0)
            try:
                live(*one)
            except Exception as error:  # told, and the others go on
                check(False, "%s: %r" % (one[1][0], error))

    threads = [threading.Thread(target=worker) for _ in range(os.cpu_count() or 1)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    draw()
    print("%d of what was checked failed" % len(failures))
    return 1 if failures else 0


sys.exit(main())
