#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Builds the tool, writes the inn's demo disks into ./demo-disks, and walks them.
. "$(dirname "$0")/scripts/common.sh"
install_packages
build release -DHERBERGE_BUILD_TESTS=OFF -DHERBERGE_BUILD_BENCH=OFF
cd "$root"
build/release/tool/herberge demo demo-disks
