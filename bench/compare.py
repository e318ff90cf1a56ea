#!/usr/bin/env python3
"""Measures Kestrum against general-purpose baselines, in alternating pairs of one run: compare.py BIN TREE [options].

Ratios are what counts: these machines are shared. "throughput" ratios are baseline seconds / Kestrum seconds, so more
is better; 1.0 is as fast as the baseline. Turning the passphrase into a key takes the same time however much is saved:
it is measured apart and taken off; the ratios with it are given too."""
import argparse
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time

import figure


def timed(command, environment=None):
    """Seconds until the command has ended and everything is on the drive, and its peak memory in MiB."""
    os.sync()
    begin = time.monotonic()
    process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    out = process.stdout.read()
    err = process.stderr.read()
    _, status, usage = os.wait4(process.pid, 0)
    os.sync()
    seconds = time.monotonic() - begin
    code = os.waitstatus_to_exitcode(status)
    if code not in (0, 1):
        raise SystemExit("%s: exit %d\n%s" % (" ".join(command), code, err))
    return seconds, usage.ru_maxrss / 1024, out


def spread(values):
    return {"median": round(statistics.median(values), 3), "min": round(min(values), 3), "max": round(max(values), 3)}


class Bench:
    def __init__(self, arguments, folder):
        self.bin = os.path.abspath(arguments.bin)
        self.tree = os.path.abspath(arguments.tree)
        self.level = arguments.level
        self.threads = os.cpu_count()
        self.pairs = arguments.pairs
        self.folder = folder
        self.kestrum = os.path.join(self.bin, "kestrum")
        self.pipeline = os.path.join(self.bin, "bench_pipeline")
        self.environment = dict(os.environ, KESTRUM_HOME=os.path.join(folder, "home"), KESTRUM_MACHINE="skerry-1")
        passphrase = os.path.join(folder, "pass")
        with open(os.open(passphrase, os.O_CREAT | os.O_WRONLY, 0o600), "w") as file:
            file.write("tern in the fog\n")
        for name, check, parity in (("bare", "nothing", "off"), ("checked", "read back", "off"), ("guarded", "nothing", "5%")):
            os.makedirs(os.path.join(folder, name))
            timed([self.kestrum, "job", "define", name, "--what-folders", self.tree, "--where-destinations", os.path.join(folder, name),
                   "--protect-passphrase", "file:" + passphrase, "--how-compression", str(self.level), "--check-after-run", check, "--protect-parity", parity],
                  self.environment)

    def run(self, job, *more):
        seconds, memory, out = timed([self.kestrum, "run", job, "--quiet", "--json", *more], self.environment)
        return seconds, memory, json.loads(out)["runs"][0]

    def measure_key(self):
        """Seconds that the passphrase and the start of the program cost."""
        seconds = [timed([self.kestrum, "browse", "bare", "/"], self.environment)[0] for _ in range(5)]
        self.key = statistics.median(seconds)
        return {"key-and-start-seconds": spread(seconds)}

    def throughput(self, base, spent):
        return base / max(0.001, spent - self.key), base / spent

    def drop(self, job):
        """Back to nothing, so that each full writes as much as the one before."""
        drive = os.path.join(self.folder, job)
        shutil.rmtree(drive)
        os.makedirs(drive)
        state = os.path.join(self.folder, "home", "state", "job-state", job + ".json")
        if os.path.exists(state):
            os.unlink(state)

    def fulls(self):
        packed = os.path.join(self.folder, "packed")
        base, bare, checked, guarded, memory = [], [], [], [], []
        timed([self.pipeline, "walk", self.tree])
        self.run("bare", "--kind", "full")
        result = self.measure_key()
        for _ in range(self.pairs):
            base.append(timed([self.pipeline, "pack", self.tree, packed, str(self.level), str(self.threads)])[0])
            self.drop("bare")
            seconds, used, run = self.run("bare", "--kind", "full")
            bare.append(seconds)
            memory.append(used)
            self.drop("checked")
            checked.append(self.run("checked", "--kind", "full")[0])
            self.drop("guarded")
            seconds, used, with_parity = self.run("guarded", "--kind", "full")
            guarded.append((seconds, used))
        pairs = [self.throughput(*pair) for pair in zip(base, bare)]
        checked_pairs = [self.throughput(*pair) for pair in zip(base, checked)]
        without = [max(0.001, seconds - self.key) for seconds in bare]
        volumes = [name for name in os.listdir(run["set-folder"]) if name.endswith(".kvol")]
        content = sum(os.path.getsize(os.path.join(run["set-folder"], name)) for name in volumes)
        catalog = self.catalog_bytes(run["set-folder"], volumes)
        result.update({"files": run["totals"]["files"], "bytes": run["totals"]["bytes"], "pipeline-seconds": spread(base), "full-seconds": spread(bare),
                       "full-throughput": spread([a for a, _ in pairs]), "full-throughput-with-key": spread([b for _, b in pairs]),
                       "full-read-back-throughput": spread([a for a, _ in checked_pairs]), "full-memory-mib": spread(memory),
                       "read-back-against-without": spread([a / max(0.001, b - self.key) for a, b in zip(without, checked)]),
                       "parity-against-without": spread([a / max(0.001, b - self.key) for a, (b, _) in zip(without, guarded)]),
                       "parity-memory-mib": spread([used for _, used in guarded]),
                       "parity-share": round(with_parity["totals"]["stored-bytes"] / run["totals"]["stored-bytes"] - 1, 4),
                       "stored-bytes": run["totals"]["stored-bytes"], "catalog-bytes": catalog, "pipeline-bytes": os.path.getsize(packed),
                       "stored-ratio-without-catalog-and-index": round((content - catalog) / os.path.getsize(packed), 4)})
        return result

    @staticmethod
    def catalog_bytes(folder, volumes):
        total = 0
        for name in volumes:
            path = os.path.join(folder, name)
            with open(path, "rb") as file:
                at, end = 96, os.path.getsize(path)
                while at < end:
                    file.seek(at)
                    head = file.read(16)
                    size = 32 + int.from_bytes(head[12:16], "little")
                    total += size if head[4] == 2 else 0
                    at += size
        return total

    def increments(self):
        time.sleep(3.5)
        self.run("bare")
        walks, seconds, memories = [], [], []
        for _ in range(self.pairs):
            walks.append(timed([self.pipeline, "walk", self.tree])[0])
            spent, memory, _ = self.run("bare")
            seconds.append(spent)
            memories.append(memory)
        result = {"walk-seconds": spread(walks), "no-change-seconds": spread(seconds), "no-change-memory-mib": spread(memories)}
        if statistics.median(walks) < 0.02:
            return result  # too quick a walk to be a measure
        return {**result, "no-change-times-the-walk": spread([max(0.0, spent - self.key) / walk for walk, spent in zip(walks, seconds)]),
                "no-change-times-the-walk-with-key": spread([spent / walk for walk, spent in zip(walks, seconds)])}

    def restores(self):
        packed = os.path.join(self.folder, "packed")
        base, spent, memories = [], [], []
        # Nothing is removed in between: a file system that has just removed many files is slow at creating others.
        time.sleep(6)
        for pair in range(self.pairs):
            base.append(timed([self.pipeline, "unpack", packed, os.path.join(self.folder, "unpacked-%d" % pair)])[0])
            seconds, memory, _ = timed([self.kestrum, "restore", "bare", self.tree, "--to", os.path.join(self.folder, "restored-%d" % pair), "--with-owners", "--quiet", "--json"], self.environment)
            spent.append(seconds)
            memories.append(memory)
        pairs = [self.throughput(*pair) for pair in zip(base, spent)]
        first = next(os.path.join(folder, name) for folder, _, names in os.walk(self.tree) for name in sorted(names)
                     if os.path.isfile(os.path.join(folder, name)) and not os.path.islink(os.path.join(folder, name)))
        one = [timed([self.kestrum, "restore", "bare", first, "--to", os.path.join(self.folder, "one-%d" % i), "--quiet"], self.environment)[0] for i in range(self.pairs)]
        return {"reverse-seconds": spread(base), "restore-seconds": spread(spent), "restore-throughput": spread([a for a, _ in pairs]),
                "restore-throughput-with-key": spread([b for _, b in pairs]), "restore-memory-mib": spread(memories), "restore-one-seconds": spread(one)}

    def checks(self):
        """Everything read, decrypted, decompressed; Kestrum authenticates and names it as well."""
        packed = os.path.join(self.folder, "packed")
        base, spent, memories = [], [], []
        for _ in range(self.pairs):
            base.append(timed([self.pipeline, "check", packed])[0])
            seconds, memory, _ = timed([self.kestrum, "verify", "bare", "--quiet", "--anew", "--json"], self.environment)
            spent.append(seconds)
            memories.append(memory)
        pairs = [self.throughput(*pair) for pair in zip(base, spent)]
        return {"check-seconds": spread(base), "verify-seconds": spread(spent), "verify-throughput": spread([a for a, _ in pairs]),
                "verify-throughput-with-key": spread([b for _, b in pairs]), "verify-memory-mib": spread(memories)}

    def stages(self):
        sample = os.path.join(self.folder, "sample")
        with open(sample, "wb") as out:
            for folder, _, names in os.walk(self.tree):
                for name in sorted(names):
                    path = os.path.join(folder, name)
                    if out.tell() < 128 << 20 and os.path.isfile(path) and not os.path.islink(path):
                        with open(path, "rb") as file:
                            out.write(file.read(8 << 20))
        if os.path.getsize(sample) < 1 << 20:
            return {}
        return {"nanoseconds-per-byte": json.loads(timed([os.path.join(self.bin, "bench_stages"), sample, str(self.level)])[2])}


def table(result):
    print("%s files, %.1f MiB, level %d, %d threads" % (format(result["files"], ","), result["bytes"] / 2**20, result["level"], result["threads"]))
    for key, value in result.items():
        if isinstance(value, dict) and "median" in value:
            print("  %-40s %8.3f   (%.3f to %.3f)" % (key, value["median"], value["min"], value["max"]))
        elif isinstance(value, dict):
            print("  %-40s %s" % (key, ", ".join("%s %s" % pair for pair in value.items())))
        elif key not in ("files", "level", "threads", "tree"):
            print("  %-40s %s" % (key, value))


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("bin")
    parser.add_argument("tree")
    parser.add_argument("--level", type=int, default=3)
    parser.add_argument("--pairs", type=int, default=3)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--figure", metavar="FILE", help="draw the ratios, as .png or .svg")
    parser.add_argument("--only", choices=["full", "increment"], help="leave out the rest")
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="kestrum-bench-") as folder:
        bench = Bench(arguments, folder)
        result = {"tree": bench.tree, "level": bench.level, "threads": bench.threads}
        result.update(bench.fulls())
        if arguments.only != "full":
            result.update(bench.increments())
        if arguments.only is None:
            result.update(bench.checks())
            result.update(bench.restores())
            result.update(bench.stages())
    if arguments.figure:
        figure.draw([result], arguments.figure)
    if arguments.json:
        json.dump(result, sys.stdout, indent=1)
    else:
        table(result)


main()
