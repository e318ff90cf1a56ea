#!/usr/bin/env python3
"""Draws results of compare.py side by side: figure.py OUT.png|OUT.svg RESULT.json..."""
import json
import os
import subprocess
import sys
import tempfile

# Key of the result, what the axis calls it, the least that is wanted (or the most), whether more is better.
ROWS = [("full-throughput", "full backup\\n/ pipeline", 0.75, True), ("full-read-back-throughput", "full, read back\\n/ pipeline", None, True),
        ("restore-throughput", "restore everything\\n/ reverse pipeline", 0.8, True), ("no-change-times-the-walk", "no-change run,\\ntimes a plain walk", 2.5, False)]


def draw(results, path):
    rows = [row for row in ROWS if any(row[0] in result for result in results)]
    terminal = "svg size 1280,800 dynamic" if path.endswith(".svg") else "pngcairo size 1280,800"
    with tempfile.TemporaryDirectory() as folder:
        data = os.path.join(folder, "data")
        with open(data, "w") as file:
            for index, (key, label, _, _) in enumerate(rows):
                values = [result.get(key, {}) for result in results]
                cells = " ".join("%s %s %s" % (value.get("median", "?"), value.get("min", "?"), value.get("max", "?")) for value in values)
                file.write('%d "%s" %s\n' % (index, label, cells))
        top = 1.15 * max([value for row in rows for result in results if row[0] in result for value in [result[row[0]]["max"], row[2] or 0]])
        script = ["set terminal %s font 'DejaVu Sans,13' background '#ffffff'" % terminal, "set output '%s'" % path, "set datafile missing '?'",
                  "set title 'Kestrum against general-purpose baselines: medians, with the least and the most of each' font ',16'",
                  "set xrange [-0.75:%s]" % (len(rows) - 0.5), "set yrange [0:%.3f]" % top, "set ylabel 'ratio'", "set grid ytics lt 1 lc '#dddddd'", "set bmargin 5",
                  "set xtics (%s) scale 0" % ", ".join('"%s" %d' % (row[1], index) for index, row in enumerate(rows)), "set border 3", "set tics nomirror",
                  "set key top left", "set boxwidth %.3f" % (0.7 / len(results)), "set style fill solid 0.85 noborder"]
        for index, (_, _, wanted, more) in enumerate(rows):
            if wanted is None:
                continue
            script.append("set arrow from %s,%s to %s,%s nohead lc '#222222' lw 2 dt 2 front" % (index - 0.4, wanted, index + 0.4, wanted))
            script.append("set label '%s %s' at %s,%s right offset -0.5,0 font ',11' front" % ("at least" if more else "at most", wanted, index - 0.4, wanted))
        colours = ["#33658a", "#f0a202", "#758e4f", "#86415c"]
        plots = []
        for index, result in enumerate(results):
            shift = (index - (len(results) - 1) / 2) * 0.7 / len(results)
            name = "%s: %s files, %.0f MiB" % (os.path.basename(result["tree"]), format(result["files"], ","), result["bytes"] / 2**20)
            column = 3 + 3 * index
            plots.append("'%s' using ($1+%.3f):%d with boxes lc '%s' title '%s'" % (data, shift, column, colours[index % 4], name))
            plots.append("'' using ($1+%.3f):%d:%d:%d with yerrorbars lc '#222222' pt -1 notitle" % (shift, column, column + 1, column + 2))
        script.append("plot " + ", ".join(plots))
        done = subprocess.run(["gnuplot"], input="\n".join(script) + "\n", text=True)
        if done.returncode != 0:
            raise SystemExit("gnuplot did not draw the figure")


if __name__ == "__main__":
    draw([json.load(open(name)) for name in sys.argv[2:]], sys.argv[1])
