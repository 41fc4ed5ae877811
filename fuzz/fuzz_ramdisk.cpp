// SPDX-License-Identifier: MIT
#include <herberge/herberge.hpp>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const auto result = herberge::inspect_ramdisk(*herberge::memory_source({data, data + size}, "rd"));
    if (result) (void)herberge::judge_ramdisk(*result, {}, herberge::CommandLine(""));
    return 0;
}
