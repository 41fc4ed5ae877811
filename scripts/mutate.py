#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Do the tests bite? Small mistakes are put into a copy of the library, and the tests must notice each.

mutate.py [--folder FOLDER ...] [--count N] [--seed N] [--work FOLDER] [--keep FILE] [--rows FILE]
  --folder  below src/, or tool (by default all); may be given several times
  --count   how many mistakes in each (by default 20)
  --seed    which ones: the same seed, the same mistakes (by default 1)
  --work    where the copy is built; its first build takes as long as a whole one (by default build/mutants)
  --keep    a table to which the outcomes are added; what it has already is not tried again
  --rows    where the table of folders is written (by default to standard output alone)

A mistake is a changed comparison, sum, condition, constant or bound, or a statement left out. All are built into one program, which
is told by its environment which one it makes: so a mistake costs no build. Each test is run alone once, and tells which places it
reaches; then each mistake meets the tests that reach its place, the quickest first, until one fails or does not end. What no test
reaches counts as not noticed. What the compiler works out itself (consteval, tables) is not changed.
Exit status 0: at least 85 in 100 of each folder were noticed.
"""
import argparse, collections, concurrent.futures, os, pathlib, random, re, shutil, subprocess, sys, tempfile, time

top = pathlib.Path(__file__).resolve().parent.parent
HEADER = r"""#pragma once
// What a changed place asks: does the program make this mistake?
#include <cstdio>
#include <cstdlib>
#include <type_traits>
#include <utility>
namespace mutants {
inline constexpr int most = 65536;
inline char reached[most];
inline int asked() {
  const char* word = std::getenv("MUTANT");
  if (std::getenv("MUTANTS_REACHED"))
    std::atexit([] {
      if (std::FILE* out = std::fopen(std::getenv("MUTANTS_REACHED"), "a")) {
        for (int i = 0; i < most; ++i)
          if (reached[i]) std::fprintf(out, "%d\n", i);
        std::fclose(out);
      }
    });
  return word ? std::atoi(word) : -1;
}
inline const int made = asked();
inline bool on(int number) {
  reached[number] = 1;
  return number == made;
}
template <int N> struct Mark {};
template <int N, char Op, class A> struct Left { A&& left; };
#define MUTANTS_BINARY(letter, op, other)                                                                       \
  template <class A, int N> Left<N, letter, A> operator op(A&& a, Mark<N>) { return {std::forward<A>(a)}; }      \
  template <int N, class A, class B> auto operator op(Left<N, letter, A>&& l, B&& b)                             \
      -> decltype(std::forward<A>(l.left) op std::forward<B>(b)) {                                               \
    if (on(N)) return std::forward<A>(l.left) other std::forward<B>(b);                                          \
    return std::forward<A>(l.left) op std::forward<B>(b);                                                        \
  }
MUTANTS_BINARY('e', ==, !=) MUTANTS_BINARY('n', !=, ==)
MUTANTS_BINARY('l', <, <=) MUTANTS_BINARY('m', <=, <) MUTANTS_BINARY('g', >, >=) MUTANTS_BINARY('h', >=, >)
MUTANTS_BINARY('p', +, -) MUTANTS_BINARY('s', -, +) MUTANTS_BINARY('t', *, +) MUTANTS_BINARY('a', &, |)
MUTANTS_BINARY('u', <<, >>) MUTANTS_BINARY('v', >>, <<)
#undef MUTANTS_BINARY
template <int N, class T> const T& lesser(const T& a, const T& b) { return (b < a) != on(N) ? b : a; }
template <int N, class T> const T& greater(const T& a, const T& b) { return (a < b) != on(N) ? b : a; }
}
"""
# What stands there, and what takes its place where mistake N is made.
BINARY = [" == ", " != ", " < ", " <= ", " > ", " >= ", " + ", " - ", " * ", " & ", " << ", " >> "]
# A statement on a line of its own: an assignment or a call.
STATEMENT = r"(?<=^)(\s+)((?![.-]|return\b|throw\b)[\w.\->\[\]():]+(?: [+|&-]?= [^;{}]+|\([^;{}]*\));)$"
CHANGES = [(re.escape(op), lambda m, n: f"{m.group()}mutants::Mark<{n}>{{}}{m.group()}") for op in BINARY] + [
    (r" && ", lambda m, n: f" && !mutants::on({n}) && "), (r" \|\| ", lambda m, n: f" || mutants::on({n}) || "),
    (r"\btrue\b", lambda m, n: f"!mutants::on({n})"), (r"\bfalse\b", lambda m, n: f"mutants::on({n})"),
    (r"(?<![\w.'])(\d+)(?=[;,)\s\]])", lambda m, n: f"(mutants::on({n}) ? {m.group(1)} + 1 : {m.group(1)})"),
    (r"\b0x[0-9A-F]+\b(?!')", lambda m, n: f"(mutants::on({n}) ? {m.group()} ^ 1 : {m.group()})"),
    (r"\bif \((?!const |auto |!?std::(?:holds|is_))[^;]*\)(?= (?:\{|return|continue|break)|$)", None),
    (r"\bcontinue;", lambda m, n: f"{{ if (mutants::on({n})) break; continue; }}"),
    (r"std::min\(", lambda m, n: f"mutants::lesser<{n}>("), (r"std::max\(", lambda m, n: f"mutants::greater<{n}>("),
    (STATEMENT, lambda m, n: f"{m.group(1)}{{ if (!mutants::on({n})) {m.group(2)} }}")]


def condition(m, n):
    """`if (…)` the other way round; none where its bracket closes elsewhere."""
    inner, depth = m.group()[4:-1], 0
    for letter in inner:
        depth += {"(": 1, ")": -1}.get(letter, 0)
        if depth < 0:
            return None
    return f"if (static_cast<bool>({inner}) != mutants::on({n}))" if depth == 0 else None


class Mistake:
    def __init__(self, path, line, start, end, change, pattern):
        self.path, self.line, self.start, self.end, self.change, self.pattern, self.number = path, line, start, end, change, pattern, 0
        self.tests, self.outcome = [], None

    def name(self):
        return f"{self.path}:{self.line + 1}:{self.start + 1}"

    def told(self, lines):
        text = lines[self.line][self.start:self.end].strip()
        return f"{self.name()} {text if len(text) < 60 else text[:57] + '...'}"


def sources():
    """The sources as they are now, by their path: who goes on writing them meanwhile does no harm."""
    return {path.relative_to(top): path.read_text() for folder in ("src", "tool") for path in sorted((top / folder).rglob("*.cpp"))}


def places(folder, texts):
    """Every place of a folder where a mistake can be made."""
    for path, text in texts.items():
        if not path.is_relative_to("tool" if folder == "tool" else pathlib.Path("src", folder)):
            continue
        before, depth = "", 0
        for number, line in enumerate(text.split("\n")):
            code, begins = line.split("//")[0].rstrip(), before.endswith((";", "{", "}", ":", ")", "else")) or not before
            bare = re.sub(r'"(\\.|[^"\\])*"|\'(\\.|[^\'\\])\'', lambda m: '"' + "\1" * (len(m.group()) - 2) + '"', code)
            before = code.strip() or before
            # What begins with constexpr is worked out by the compiler, down to where its brackets close.
            if depth or re.search(r"\bconst(expr|eval)\b", code):
                depth += len(re.findall(r"[({[]", bare)) - len(re.findall(r"[)}\]]", bare))
                continue
            if not code.startswith("  ") or code.lstrip().startswith(("#", "case ", "static_assert", "template")) or "make_finding" in code:
                continue
            for pattern, change in CHANGES:
                if pattern == STATEMENT and not begins:
                    continue
                for found in re.finditer(pattern, bare):
                    yield Mistake(path, number, found.start(), found.end(), change or condition, pattern)


def copy_sources(work):
    """All but the sources that mistakes are put into, as it is; only what differs is written."""
    listed = subprocess.run(["git", "ls-files", "-co", "--exclude-standard"], cwd=top, capture_output=True, text=True, check=True).stdout.split("\n")
    for name in filter(None, listed):
        if (top / name).is_file() and not (name.startswith(("src/", "tool/")) and name.endswith(".cpp")):
            put(work / "source" / name, (top / name).read_bytes())
            shutil.copymode(top / name, work / "source" / name)
    put(work / "mutants.hpp", HEADER.encode())


def put(path, content):
    if not path.exists() or path.read_bytes() != content:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)


def with_mistakes(text, mistakes):
    """The text with every one of them; one within another is left out, and has no number then."""
    lines = text.split("\n")
    taken = collections.defaultdict(list)
    for one in sorted(mistakes, key=lambda m: (m.line, m.start, -m.end)):
        if any(one.start < end and start < one.end for start, end in taken[one.line]):
            one.number = 0
        else:
            taken[one.line].append((one.start, one.end))
    for one in sorted(mistakes, key=lambda m: (m.line, -m.start)):
        if not one.number:
            continue
        line = lines[one.line]
        found = re.compile(one.pattern).match(line, one.start)
        fresh = one.change(found, one.number) if found and len(found.group()) == one.end - one.start else None
        if fresh is None:
            one.number = 0
        else:
            lines[one.line] = line[:one.start] + fresh + line[one.end:]
    return "\n".join(lines)


class Program:
    def __init__(self, work, texts):
        self.work, self.build, self.texts = work, work / "build", texts
        self.tests = self.build / "tests/herberge_tests"

    def make(self, mistakes):
        """Builds the program with as many of the mistakes as it can be built with."""
        by_file = collections.defaultdict(list)
        for one in mistakes:
            by_file[one.path].append(one)
        flags = f"-w -Wno-narrowing -Wno-error -fpermissive -include {self.work / 'mutants.hpp'}"
        copy_sources(self.work)
        for _ in range(12):
            for path, text in self.texts.items():
                put(self.work / "source" / path, with_mistakes(text, by_file.get(path, [])).encode())
            if not (self.build / "build.ninja").exists():
                subprocess.run(["cmake", "-S", self.work / "source", "-B", self.build, "-G", "Ninja", "-DCMAKE_BUILD_TYPE=Release", "-DCMAKE_CXX_FLAGS_RELEASE=-O1 -DNDEBUG",
                                f"-DCMAKE_CXX_FLAGS={flags}", "-DHERBERGE_BUILD_TESTS=ON"], check=True, stdout=subprocess.DEVNULL)
            done = subprocess.run(["ninja", "-C", self.build, "-k", "0", "tests/herberge_tests"], capture_output=True, text=True)
            if done.returncode == 0:
                return
            (self.work / "build.log").write_text(done.stdout)
            if not self.drop(done.stdout, by_file):
                sys.exit(f"the copy cannot be built: {self.work / 'build.log'}")
        sys.exit("the copy cannot be built even so")

    def drop(self, log, by_file):
        """Takes out what the compiler does not take: what is on the lines that it names, or else all of the file."""
        dropped = 0
        for block in re.split(r"(?m)^FAILED: ", log)[1:]:
            named = {(pathlib.Path(p), int(n)) for p, n in re.findall(re.escape(str(self.work / "source")) + r"/([\w./-]+):(\d+)[:,]", block)}
            unit = re.search(r"-c \S*/source/(\S+\.cpp)", block)
            here = [m for p, n in named for m in by_file.get(p, []) if m.number and m.line + 1 == n]
            if not here and unit:
                here = [m for m in by_file.get(pathlib.Path(unit.group(1)), []) if m.number]
            for one in here:
                one.number = 0
            dropped += len(here)
        return dropped

    def run(self, test, environment, seconds):
        """Did the test, or did several with ":" between them, pass in time?"""
        with tempfile.TemporaryDirectory(dir=self.work) as folder:
            process = subprocess.Popen([self.tests, "--gtest_brief=1", "--gtest_fail_fast", f"--gtest_filter={test}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=folder,
                                       env=dict(os.environ, TMPDIR=folder, **environment), start_new_session=True)
            try:
                return process.wait(seconds) == 0
            except subprocess.TimeoutExpired:
                return False
            finally:
                try:
                    os.killpg(process.pid, 9)
                except ProcessLookupError:
                    pass
                process.wait()

    def listed(self):
        out, suite = [], ""
        for line in subprocess.run([self.tests, "--gtest_list_tests"], capture_output=True, text=True, check=True).stdout.split("\n"):
            if line.startswith("  "):
                out.append(suite + line.split("#")[0].strip())
            elif line.endswith(".") or ".  #" in line:
                suite = line.split("#")[0].strip()
        return [t for t in out if not t.startswith("DISABLED_")]

    def reach(self, test):
        """The test, its seconds, and the numbers of the places it reaches; None where it does not pass as it is."""
        with tempfile.NamedTemporaryFile(dir=self.work) as file:
            begin = time.time()
            good = self.run(test, {"MUTANTS_REACHED": file.name}, 300)
            seconds = time.time() - begin
            numbers = {int(n) for n in pathlib.Path(file.name).read_text().split()}
        return test, seconds, numbers if good else None

    def meet(self, mistake, seconds):
        """Does a test notice it? The name of the one that does, or of the first of those that were tried together: a process for each
        would spend more on starting than on testing."""
        left, at_once = sorted(mistake.tests, key=seconds.get), 1
        while left:
            now, left, at_once = left[:at_once], left[at_once:], min(at_once * 2, 64)
            if not self.run(":".join(now), {"MUTANT": str(mistake.number)}, 5 + 8 * sum(seconds[t] for t in now)):
                return now[0] if len(now) == 1 else f"one of {now[0]} and {len(now) - 1} more"
        return None


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--folder", action="append", default=[])
    parser.add_argument("--count", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--work", type=pathlib.Path, default=top / "build/mutants")
    parser.add_argument("--keep", type=pathlib.Path)
    parser.add_argument("--rows", type=pathlib.Path)
    args = parser.parse_args()
    work = args.work.resolve()
    work.mkdir(parents=True, exist_ok=True)
    known = {}
    if args.keep and args.keep.exists():
        known = {row.split(" | ")[1]: row.split(" | ")[0] for row in args.keep.read_text().split("\n") if row}
    folders = args.folder or sorted(p.name for p in (top / "src").iterdir() if p.is_dir()) + ["tool"]
    texts, chosen = sources(), {}
    for folder in folders:
        every = list(places(folder, texts))
        chance = random.Random(f"{args.seed} {folder}")
        # Some that cannot be built are expected.
        chosen[folder] = chance.sample(every, min(len(every), args.count * 5 // 4))
    mistakes = [m for f in folders for m in chosen[f]]
    for number, one in enumerate(mistakes, 1):
        one.number = number
    program = Program(work, texts)
    program.make(mistakes)
    made = {folder: [m for m in chosen[folder] if m.number][:args.count] for folder in folders}
    numbers = {m.number: m for f in folders for m in made[f]}
    print(f"{len(numbers)} mistakes in one program", flush=True)
    seconds, failing = {}, []
    with concurrent.futures.ThreadPoolExecutor(os.cpu_count()) as pool:
        for test, took, reached in pool.map(program.reach, program.listed()):
            seconds[test] = took
            if reached is None:
                failing.append(test)
                continue
            for number in reached & set(numbers):
                numbers[number].tests.append(test)
        print(f"{len(seconds)} tests, {sum(seconds.values()):.0f} s; {len(failing)} fail by themselves and are left out{': ' if failing else ''}{' '.join(failing)}", flush=True)

        def meet(one):
            lines = texts[one.path].split("\n")
            name = one.told(lines)
            one.outcome = known.get(name)
            if one.outcome is None:
                by = program.meet(one, seconds)
                one.outcome = "noticed" if by else "survived" if one.tests else "not reached"
                row = f"{one.outcome} | {name} | {by or lines[one.line].strip()}"
                print(row, flush=True)
                if args.keep:
                    with args.keep.open("a") as out:
                        out.write(row + "\n")

        list(pool.map(meet, numbers.values()))
    good, rows = True, ["| folder | mistakes | noticed | not reached | survived |", "|---|---|---|---|---|"]
    for folder in folders:
        count = collections.Counter(m.outcome for m in made[folder])
        every = sum(count.values())
        if every:
            rows.append(f"| {'' if folder == 'tool' else 'src/'}{folder} | {every} | {count['noticed']} ({count['noticed'] * 100 // every} %) | {count['not reached']} | {count['survived']} |")
            good = good and count["noticed"] * 100 >= every * 85
    print("\n".join(rows))
    if args.rows:
        args.rows.write_text("\n".join(rows) + "\n")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
