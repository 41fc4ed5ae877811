// SPDX-License-Identifier: MIT
// A GRUB configuration, parsed and run on a machine without files.
#include <herberge/herberge.hpp>

#include "loader/grub/interpreter.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size > 4096) return 0;
    const std::string_view text(reinterpret_cast<const char*>(data), size);
    herberge::grub::Lines lines(text);
    while (const auto line = lines.next()) (void)herberge::grub::parse(*line, lines);
    const herberge::Machine machine;
    herberge::grub::World world(machine, 1, "i386-pc");
    herberge::grub::Interpreter interpreter(world, {});
    interpreter.run_embedded(text);
    return 0;
}
