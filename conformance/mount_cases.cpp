// SPDX-License-Identifier: MIT
// What judge_root_mount says of a file system with one byte changed: IMAGE as argument, "offset mask" lines on standard
// input; one line each: mount, refuse or unknown, and why.
#include <array>
#include <iostream>

#include <herberge/herberge.hpp>

int main(int count, char** arguments) {
    if (count != 2) return 2;
    const auto image = herberge::open_image(arguments[1], 1);
    if (!image) return 3;
    std::uint64_t offset = 0;
    unsigned mask = 0;
    while (std::cin >> offset >> mask) {
        const auto layer = herberge::overlay(*image);
        const auto before = (*image)->bytes(offset, 1);
        if (!before) return 3;
        const std::array<std::uint8_t, 1> after = {static_cast<std::uint8_t>((*before)[0] ^ mask)};
        if (!layer->write(offset, after)) return 3;
        const herberge::Volume volume(herberge::slice(layer, 0, layer->size(), "d1"), 1, 0);
        const auto claim = herberge::judge_root_mount(volume, "");
        const char* said = claim.state == herberge::State::Holds    ? "mount"
                           : claim.state == herberge::State::Breaks ? "refuse"
                                                                    : "unknown";
        std::cout << said << ' ' << claim.text << '\n';
    }
    return 0;
}
