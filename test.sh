#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Builds everything and passes the tests, under ASan and UBSan; and, where a corpus of really booted disks is at hand
# (HERBERGE_CORPUS, or ../shared/corpus), compares the optimised program with the areas that are claimed.
# The sanitizers run with clang, which takes half of GCC's time for that; clang-tidy looks at what was changed last.
# --quick passes the tests in the optimised build instead, without the sanitizers; --both does both.
. "$(dirname "$0")/scripts/common.sh"
case "${1:-}" in
    --quick) quick=yes optimised=ON preset=release ;;
    --both) quick=no optimised=ON preset=release ;;
    *) quick=no optimised=OFF preset=lean ;;
esac
install_packages libgtest-dev liblzo2-dev libx86emu-dev libwim-dev squashfs-tools lvm2 mdadm xfsprogs btrfs-progs libbenchmark-dev zstd python3 e2fsprogs dosfstools cryptsetup-bin clang lld libclang-rt-dev pkgconf libvalijson-dev exfatprogs mtools ntfs-3g grub-common grub-pc-bin nilfs-tools reiserfsprogs jfsutils erofs-utils bcache-tools f2fs-tools fdisk u-boot-tools device-tree-compiler mtd-utils mkbootimg openssl qemu-system-x86 xorriso cpio kmod clang-tidy clang-format git
cd "$root"
status=0
# What took how long.
part() {
    echo "$1: $((SECONDS - ${began:-0})) s"
    began=$SECONDS
}
part "packages"
build "$preset" -DHERBERGE_BUILD_TESTS=$optimised
part "the optimised build"
tool=build/$preset/tool/herberge

corpus=${HERBERGE_CORPUS:-$root/../shared/corpus}
if [ -x "$corpus/run" ]; then
    # shellcheck disable=SC2046
    "$corpus/run" --tool "$tool" $(cat conformance/claimed) || status=1
    [ "$quick" = yes ] || python3 conformance/rehearsal-against-corpus.py --tool "$tool" --corpus "$corpus" || status=1
else
    echo "no corpus at $corpus: its cases were not compared"
fi
part "the corpus"

# Whole disks of the distribution's loaders and kernels, broken and really started in a virtual PC: as many as four minutes allow,
# the same ones each time (conformance/run without --seconds starts all).
[ "$quick" = yes ] || conformance/run --tool "$tool" --seconds 240 || status=1
part "starts in a virtual PC"

# What was changed last, as the tools read it that look for mistakes in the source.
[ "$quick" = yes ] || [ ! -e .git ] || scripts/lint.sh --changed || status=1
part "clang-tidy"

# The library as others use it: installed, found by CMake and by pkg-config.
stage=$(mktemp -d)
trap 'rm -rf "$stage"' EXIT
cmake --install "build/$preset" --prefix "$stage/usr" >/dev/null
cmake -S examples/standalone -B "$stage/examples" -G Ninja -DCMAKE_PREFIX_PATH="$stage/usr" >/dev/null
cmake --build "$stage/examples" | tail -n 1
"$stage/examples/check_disk" /dev/null 2>/dev/null && status=1
# shellcheck disable=SC2046
c++ -std=c++20 examples/check_disk.cpp -o "$stage/check_disk" $(PKG_CONFIG_PATH=$(dirname "$(find "$stage" -name herberge.pc)") \
    pkg-config --static --cflags --libs herberge) || status=1
part "the library as others use it"

# Runs the tests of a build, one process more than there are processors, as some wait for other programs; of each process, how many passed, and of those that fail what they say.
run_tests() {
    local log="$stage/$1.log"
    ctest --test-dir "build/$1" -j "$(($(nproc) + 1))" -V >"$log" || {
        status=1
        grep -A 30 -E 'Failure$|ERROR: |runtime error' "$log" | head -n 200
    }
    grep -E '\[  (PASSED|FAILED|SKIPPED) +\]|tests passed|tests failed' "$log" || status=1
}
if [ "$quick" = no ]; then
    build sanitize -DHERBERGE_BUILD_TESTS=ON -DHERBERGE_BUILD_FUZZ=ON
    part "the build with sanitizers"
    run_tests sanitize
    part "its tests"
    # What decodes bytes, with bytes that nobody thought of: each target for a while, from the seeds on.
    fuzz/run --build build/sanitize --seconds 20 --corpus "$stage/fuzz" || status=1
    part "bytes that nobody thought of"
fi
[ "$optimised" = OFF ] || run_tests release
exit $status
