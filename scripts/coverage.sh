#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Which lines of src/ the tests reach: builds the library with clang's coverage, runs the tests, and prints a table by folder and
# the files below the bound. Twenty minutes on two cores; the build stays in build/coverage.
# Options: --markdown FILE writes the table there; --all lists every file.
# Exit status: 0 where src/ has at least 90 % and no file less than 75 %, else 1.
. "$(dirname "$0")/common.sh"
cd "$root"
cmake --preset clang -B build/coverage -DHERBERGE_BUILD_TESTS=ON -DHERBERGE_BUILD_BENCH=OFF -DCMAKE_BUILD_TYPE=None \
    -DCMAKE_CXX_FLAGS="-O1 -fprofile-instr-generate -fcoverage-mapping" >/dev/null
cmake --build build/coverage -- -j "$(nproc)" | tail -n 1
profiles=build/coverage/profiles
rm -rf "$profiles" && mkdir -p "$profiles"
# Without the program that lets memory end: what writes the profiles down does not stand that.
# The tests start the tool and the examples: each process leaves a profile, of which those of one program are added up.
status=0
LLVM_PROFILE_FILE="$root/$profiles/%4m.profraw" ctest --test-dir build/coverage -j "$(nproc)" -E '^allocations$' >build/coverage/ctest.log || {
    status=1
    tail -n 20 build/coverage/ctest.log
}
llvm-profdata merge -sparse "$profiles"/*.profraw -o build/coverage/all.profdata
llvm-cov export -format=text -summary-only -instr-profile build/coverage/all.profdata build/coverage/tests/herberge_tests \
    -object build/coverage/tool/herberge >build/coverage/summary.json
python3 - "$root" "$@" <<'END' || status=1
import json, os, sys
root, arguments = sys.argv[1], sys.argv[2:]
files = {}
for file in json.load(open("build/coverage/summary.json"))["data"][0]["files"]:
    name = os.path.relpath(file["filename"], root)
    if name.startswith("src/"):
        s = file["summary"]
        files[name] = [s["lines"]["covered"], s["lines"]["count"], s["branches"]["covered"], s["branches"]["count"]]
folders = {}
for name, counts in files.items():
    for key in ("/".join(name.split("/")[:2]), "src"):
        folders[key] = [a + b for a, b in zip(folders.get(key, [0] * 4), counts)]
percent = lambda a, b: 100.0 * a / b if b else 100.0
rows = ["| folder | lines | reached | branches reached |", "|---|---|---|---|"]
rows += [f"| {name} | {c[1]} | {percent(c[0], c[1]):.1f} % | {percent(c[2], c[3]):.1f} % |" for name, c in sorted(folders.items())]
low = sorted((percent(c[0], c[1]), name, c[1]) for name, c in files.items() if percent(c[0], c[1]) < 75 or "--all" in arguments)
if low:
    rows += ["", "| file | lines | reached |", "|---|---|---|"] + [f"| {name} | {count} | {p:.1f} % |" for p, name, count in low]
print("\n".join(rows))
if "--markdown" in arguments:
    open(arguments[arguments.index("--markdown") + 1], "w").write("\n".join(rows) + "\n")
sys.exit(0 if percent(*folders["src"][:2]) >= 90 and not any(p < 75 for p, _, _ in low) else 1)
END
exit $status
