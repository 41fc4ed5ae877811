#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# clang-format and clang-tidy over the sources; silent when all is well. Arguments: files (default: all of src and tool), or
# --changed for those that were changed in the three hours before the last commit, twelve at most.
set -euo pipefail
root=$(cd "$(dirname "$0")/.." && pwd)
cd "$root"
# Precompiled headers of one compiler are no use to the other's tools.
cmake -S . -B build/lint -G Ninja -DCMAKE_CXX_COMPILER=clang++ -DCMAKE_DISABLE_PRECOMPILE_HEADERS=ON >/dev/null
files=("$@")
if [ "${1:-}" = --changed ]; then
    since=$(git rev-list -1 --before="$(($(git log -1 --format=%ct) - 10800))" HEAD)
    mapfile -t files < <(git diff --name-only --diff-filter=d "${since:-HEAD~1}" HEAD -- 'src/*.cpp' 'tool/*.cpp' | head -n 12)
    [ ${#files[@]} -gt 0 ] || exit 0
fi
[ ${#files[@]} -gt 0 ] || mapfile -t files < <(git ls-files 'src/*.cpp' 'tool/*.cpp')
status=0
git ls-files '*.cpp' '*.hpp' | xargs clang-format --dry-run -Werror || status=1
printf '%s\n' "${files[@]}" | xargs -P "$(nproc)" -n 4 clang-tidy --quiet -p build/lint 2>/dev/null || status=1
exit $status
