#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Many machines at once, and one asked by many threads, under clang's thread sanitizer: builds the library and the tests of
# threads alone into build/threads. Ten minutes on two cores. Exit status 0: no race was seen, and all say the same.
. "$(dirname "$0")/common.sh"
cd "$root"
cmake --preset clang -B build/threads -DHERBERGE_BUILD_TESTS=ON -DHERBERGE_BUILD_BENCH=OFF -DCMAKE_BUILD_TYPE=None \
    -DCMAKE_CXX_FLAGS="-O1 -g1 -fsanitize=thread" -DCMAKE_EXE_LINKER_FLAGS="-fsanitize=thread" >/dev/null
cmake --build build/threads -- -j "$(nproc)" tests/herberge_thread_tests | tail -n 1
TSAN_OPTIONS=halt_on_error=1 build/threads/tests/herberge_thread_tests --gtest_brief=1
