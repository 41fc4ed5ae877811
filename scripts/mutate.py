#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Do the tests bite? One small mistake at a time is put into the library, and the tests must notice it.

mutate.py [--folder FOLDER ...] [--count N] [--seed N] [--build FOLDER] [--keep FILE]
  --folder  below src/ (by default all); may be given several times
  --count   how many mistakes (by default 20)
  --seed    which ones: the same seed, the same mistakes (by default 1)
  --build   a release build with its tests, which is built anew for each mistake (by default build/release)
  --keep    a table to which the outcomes are added; what it has already is not tried again

A mistake is a changed comparison, sum, logical operator, constant, condition or return. Works on a copy of the sources' state:
every file is put back, also when it is interrupted. Exit status 0: at least 85 in 100 of each folder were noticed.
"""
import argparse, os, pathlib, random, re, signal, subprocess, sys, time

parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
top = pathlib.Path(__file__).resolve().parent.parent
parser.add_argument("--folder", action="append", default=[])
parser.add_argument("--count", type=int, default=20)
parser.add_argument("--seed", type=int, default=1)
parser.add_argument("--build", default=str(top / "build/release"))
parser.add_argument("--keep")
args = parser.parse_args()

# What stands there, what takes its place; tried at one place of one line.
CHANGES = [(r" == ", " != "), (r" != ", " == "), (r" < ", " <= "), (r" <= ", " < "), (r" > ", " >= "), (r" >= ", " > "),
           (r" \+ ", " - "), (r" - ", " + "), (r" && ", " || "), (r" \|\| ", " && "), (r" \* ", " + "), (r"\btrue\b", "false"), (r"\bfalse\b", "true"),
           (r"(?<![\w.])(\d+)(?=[U;,)\s])", lambda m: str(int(m.group(1)) + 1)), (r"\b0x([0-9A-F]+)\b", lambda m: "0x%X" % (int(m.group(1), 16) ^ 1)),
           (r"\bif \((?!constexpr)", "if (!("), (r"return std::nullopt;", "return {};"), (r"continue;", "break;"), (r"\+\+(\w)", r"--\1"),
           (r" << ", " >> "), (r" & ", " | "), (r"::min\(", "::max("), (r"::max\(", "::min(")]


def places():
    """Every change of every line that is code, by folder."""
    out = {}
    for path in sorted((top / "src").rglob("*.cpp")):
        folder = path.relative_to(top / "src").parts[0]
        if args.folder and not any(str(path.relative_to(top / "src")).startswith(f) for f in args.folder):
            continue
        lines = path.read_text().split("\n")
        for number, line in enumerate(lines):
            code = line.split("//")[0]
            if not code.startswith("    ") or code.lstrip().startswith(("#", "case ", "static_assert")) or "make_finding" in code:
                continue
            bare = re.sub(r'"(\\.|[^"\\])*"', lambda m: "\0" * len(m.group()), code)
            for pattern, to in CHANGES:
                for found in re.finditer(pattern, bare):
                    out.setdefault(folder, []).append((path, number, found.start(), found.end(), pattern, to))
    return out


def changed(line, start, end, pattern, to):
    piece = line[start:end]
    fresh = to(re.match(pattern, piece + ";")) if callable(to) else re.sub(pattern, to, piece)
    line = line[:start] + fresh + line[end:]
    if pattern.startswith(r"\bif"):
        # The condition ends where its bracket closes.
        depth, at = 0, start + len(fresh) - 1
        while at < len(line):
            depth += {"(": 1, ")": -1}.get(line[at], 0)
            if depth == 0 and line[at] == ")":
                return line[:at] + ")" + line[at:]
            at += 1
        return None
    return line


def build():
    done = subprocess.run(["ninja", "-C", args.build, "tests/herberge_tests"], capture_output=True, text=True)
    return done.returncode == 0


def noticed():
    """By the tests, or by their going on too long."""
    running = [subprocess.Popen([args.build + "/tests/herberge_tests", "--gtest_brief=1", "--gtest_fail_fast"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                                cwd=args.build + "/tests", env=dict(os.environ, GTEST_TOTAL_SHARDS="2", GTEST_SHARD_INDEX=str(i)), start_new_session=True) for i in range(2)]
    begin = time.time()
    try:
        # The first that fails decides; what takes so long does not end any more.
        while any(one.poll() is None for one in running):
            if any(one.poll() not in (None, 0) for one in running) or time.time() - begin > 600:
                return True
            time.sleep(0.2)
        return any(one.returncode != 0 for one in running)
    finally:
        for one in running:
            if one.poll() is None:
                os.killpg(one.pid, signal.SIGKILL)
                one.wait()


def main():
    chance = random.Random(args.seed)
    known = {}
    if args.keep and os.path.exists(args.keep):
        for row in pathlib.Path(args.keep).read_text().split("\n"):
            parts = row.split(" | ")
            if len(parts) == 3:
                known[parts[1]] = parts[0]
    by_folder = places()
    folders = sorted(by_folder)
    chosen = []
    for i in range(args.count):
        chosen.append(chance.choice(by_folder[folders[i % len(folders)]]))
    tally = {}
    for path, number, start, end, pattern, to in chosen:
        name = f"{path.relative_to(top)}:{number + 1}:{start}"
        folder = path.relative_to(top / "src").parts[0]
        text = path.read_text()
        lines = text.split("\n")
        fresh = changed(lines[number], start, end, pattern, to)
        if fresh is None or fresh == lines[number]:
            continue
        outcome = known.get(name)
        if outcome is None:
            try:
                path.write_text("\n".join(lines[:number] + [fresh] + lines[number + 1:]))
                outcome = ("noticed" if noticed() else "survived") if build() else "no program"
            finally:
                path.write_text(text)
            row = f"{outcome} | {name} | {lines[number].strip()} -> {fresh.strip()}"
            print(row, flush=True)
            if args.keep:
                with open(args.keep, "a") as out:
                    out.write(row + "\n")
        if outcome != "no program":
            seen = tally.setdefault(folder, [0, 0])
            seen[0] += outcome == "noticed"
            seen[1] += 1
    build()
    good = True
    for folder, (hit, every) in sorted(tally.items()):
        print(f"{folder}: {hit} of {every} noticed")
        good = good and hit * 100 >= every * 85
    return 0 if good else 1


sys.exit(main())
