"""Layers and sizes of src/, by reading the code. See scripts/check-layers."""

import os
import re
import subprocess
import sys

LONGEST = 60  # lines of a function, its head and closing brace included
ENGINE_95 = 30

# What a system or foreign header is for, and the layers that may know it.
KEPT_TO = {
    "nlohmann/": {"archive", "engine", "tell"},
    "simdjson.h": {"archive"},
    "sqlite3.h": {"ledger"},
    "openssl/": {"archive"},
    "sodium": {"archive", "base"},
    "zstd": {"archive"},
    "xxhash": {"archive"},
    "isa-l": {"archive"},
    "toml++": {"job"},
    "spdlog/": {"tell"},
    "cxxopts": {"cli"},
    "cctz/": {"calendar"},
    "libical/": {"calendar"},
    "blkid/": {"store"},
    "pcre2.h": {"engine"},
    "fuse": {"mount"},
    "curses.h": {"cli"},
    "dtl/": {"engine"},
    "archive.h": {"target"},
    "archive_entry.h": {"target"},
}


def layers():
    """Name to the layers it may use, itself included, from the one place that says so."""
    text = open("src/CMakeLists.txt").read()
    uses, order = {}, []
    for body in re.findall(r"kestrum_layer\(([^)]*)\)", text):
        words = body.split()
        own, direct = words[0], []
        if "USES" in words:
            for word in words[words.index("USES") + 1:]:
                if word in ("LINKS", "PRIVATE_LINKS"):
                    break
                direct.append(word)
        for word in direct:
            assert word in uses, f"{own} uses {word}, which stands below it"
        uses[own] = {own}.union(*(uses[word] for word in direct)) if direct else {own}
        order.append(own)
    uses["cli"] = set(order) | {"cli"}
    return uses


def functions(path):
    """(name, line, lines) of each function body that begins in the first column or is a method in a class."""
    lines = open(path).read().split("\n")
    at = 0
    while at < len(lines):
        line = lines[at]
        head = re.match(r"^(\s{0,4})(?!namespace|class|struct|enum|union|if|for|while|switch|else|do|return|using|typedef|static_assert|public|private)[\w:~<].*", line)
        if not head:
            at += 1
            continue
        # The head goes on until "{" or ";" at its depth.
        end, text = at, ""
        while end < len(lines) and end < at + 12:
            text += lines[end] + "\n"
            if re.search(r"(\{|;|\{\})\s*$", lines[end]):
                break
            end += 1
        is_function = text.rstrip().endswith("{") and "(" in text and ")" in text and "= {" not in text and not re.search(r"\)\s*=\s*\[?", text.split("{")[0])
        if not is_function:
            at = end + 1 if text.rstrip().endswith((";", "{}")) else at + 1
            continue
        indent = head.group(1)
        close = end + 1
        while close < len(lines) and not re.match("^" + indent + r"\}", lines[close]):
            close += 1
        name = re.search(r"([\w:~]+)\s*\(", text)
        yield (name.group(1) if name else "?"), at + 1, close - at + 1
        at = close + 1


def types(path):
    """Names of the types that other files can see: two of one name are one to the linker, whatever they hold."""
    text = re.sub(r"^namespace \{.*?^\}  // namespace$", "", open(path).read(), flags=re.S | re.M)
    for found in re.finditer(r"^(?:struct|class|enum class) ([A-Z]\w+)(?: final)?(?: :[^;{]*)?\s*\{", text, re.M):
        yield found.group(1)


def main():
    uses = layers()
    homes = {}
    wrong = []
    engine = []
    files = subprocess.run(["git", "ls-files", "src/*.cpp", "src/*.hpp"], capture_output=True, text=True, check=True).stdout.split()
    for path in files:
        if not os.path.exists(path):
            continue
        layer = path.split("/")[1]
        for name in types(path):
            if homes.setdefault(name, path) != path:
                wrong.append(f"{path}: {name} is a type of {homes[name]}, too")
        for number, line in enumerate(open(path), 1):
            include = re.match(r'\s*#\s*include\s*([<"])([^>"]+)[>"]', line)
            if not include:
                continue
            quote, name = include.groups()
            if ".." in name or name.startswith("./"):
                wrong.append(f"{path}:{number}: a relative include: {name}")
            elif quote == '"':
                other = name.split("/")[0]
                if "/" not in name or other not in uses:
                    wrong.append(f"{path}:{number}: {name} does not name its layer")
                elif other not in uses[layer]:
                    wrong.append(f"{path}:{number}: {layer} includes {name}, which it may not use")
            else:
                for known, allowed in KEPT_TO.items():
                    if name.startswith(known) and layer not in allowed:
                        wrong.append(f"{path}:{number}: {layer} includes <{name}>, kept to {', '.join(sorted(allowed))}")
        if path.endswith(".cpp"):
            for name, line, size in functions(path):
                if size > LONGEST:
                    wrong.append(f"{path}:{line}: {name} has {size} lines; {LONGEST} at most")
                if layer == "engine":
                    engine.append(size)
    engine.sort()
    at_95 = engine[int(len(engine) * 0.95)]
    if at_95 >= ENGINE_95:
        wrong.append(f"src/engine: 95 of 100 functions have up to {at_95} lines; wanted is below {ENGINE_95}")
    if "--figures" in sys.argv:
        print(f"functions in src/engine: {len(engine)}, median {engine[len(engine) // 2]}, 95th percentile {at_95}, longest {engine[-1]} lines")
    for line in wrong:
        print(line)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
