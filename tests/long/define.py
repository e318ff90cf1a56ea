#!/usr/bin/env python3
"""The evidence on defining and previewing a job: run by `scripts/test long`. What choosing costs over 200,000 files, and
how near the estimate of a preview comes to what the run then stores.

Prints what it measured; exits 1 when something is not as promised, 0 with a message when the disk is too short."""
import json
import os
import shutil
import subprocess
import sys
import tempfile

BIN = os.path.abspath(os.path.dirname(sys.argv[1]))
KESTRUM = os.path.abspath(sys.argv[1])
# Trees of this machine that hold hardly anything twice, as different as it has them; and one that does.
TREES = ["/usr/include", "/usr/lib/gcc", "/usr/share/fonts", "/usr/bin", "/usr/lib/python3"]
failures = []


def check(good, text):
    print(("ok      " if good else "FAILED  ") + text, flush=True)
    if not good:
        failures.append(text)


def many_files(folder):
    """200,000 small files in 2,000 folders, named as people do."""
    kinds = ["csv", "txt", "png", "jpg", "gpx", "odt", "wav", "part"]
    for one in range(2000):
        place = os.path.join(folder, "year-%d" % (one % 20), "list-%d" % one)
        os.makedirs(place)
        for two in range(100):
            with open(os.path.join(place, "count %d-%d.%s" % (one, two, kinds[two % len(kinds)])), "w"):
                pass


def run(home, *words):
    environment = dict(os.environ, KESTRUM_HOME=home, KESTRUM_MACHINE="skerry-1")
    return subprocess.run([KESTRUM] + list(words), env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def estimate(work, name, tree, kind_of_tree):
    """The estimate and what was stored; returns their ratio."""
    home, drive = os.path.join(work, "home"), os.path.join(work, "drive-" + name)
    os.makedirs(drive)
    made = run(home, "job", "define", name, "--what-folders", tree, "--where-destinations", drive, "--same-disk", "--what-usual-list", "save",
               "--protect-encryption", "none", "--check-after-run", "nothing")
    if made.returncode != 0:
        raise SystemExit(made.stderr)
    told = json.loads(run(home, "preview", name, "--json", "--quiet").stdout)["estimate"]
    run(home, "run", name, "--quiet")
    totals = json.loads(run(home, "history", name, "--json").stdout)["runs"][0]["totals"]
    shutil.rmtree(drive)
    ratio = told["stored-bytes"] / totals["stored-bytes"]
    print("        %s (%s): %.1f MiB read, sample of %.1f MiB; estimate %.1f MiB (%.1f to %.1f), stored %.1f MiB: %+.1f %%" % (
        tree if name != "copies" else "the same folder four times", kind_of_tree, told["read-bytes"] / 2**20, told["sampled-bytes"] / 2**20,
        told["stored-bytes"] / 2**20, told["least-bytes"] / 2**20, told["most-bytes"] / 2**20, totals["stored-bytes"] / 2**20, 100 * (ratio - 1)), flush=True)
    return ratio


with tempfile.TemporaryDirectory(prefix="kestrum-define-") as work:
    if shutil.disk_usage(work).free < 6 << 30:
        print("skipped: less than 6 GiB free")
        sys.exit(0)
    tree = os.path.join(work, "many")
    many_files(tree)
    for line in subprocess.run([os.path.join(BIN, "bench_selection"), tree, "11"], stdout=subprocess.PIPE, text=True).stdout.splitlines():
        ratio = float(line.split(": ")[2].split()[0])
        check(ratio <= 1 + 1 / 3, "selection over 200,000 files, " + line)
    shutil.rmtree(tree)
    for number, real in enumerate(TREES):
        if os.path.isdir(real):
            ratio = estimate(work, "tree%d" % number, real, "hardly anything twice")
            check(abs(ratio - 1) <= 0.15, "the estimate for %s is within 15 %%" % real)
    copies = os.path.join(work, "copies")
    for number in range(4):
        shutil.copytree("/usr/lib/gcc", os.path.join(copies, str(number)), symlinks=True)
    estimate(work, "copies", copies, "with duplicates: not promised")
sys.exit(1 if failures else 0)
