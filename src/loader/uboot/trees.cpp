// SPDX-License-Identifier: MIT
// Device trees while they lie in memory: values out of them, overlays laid over them, memory that they reserve
// (cmd/fdt.c, common/fdt_support.c, boot/fdt_overlay.c of 2023.01; "Devicetree Specification" 0.4, section 3.5).
#include <fmt/format.h>
#include <algorithm>

#include "artifact/device_tree.hpp"
#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

bool is_text(std::span<const std::uint8_t> value) {
    if (value.empty() || value.back() != 0 || value.front() == 0) return false;
    return std::ranges::all_of(value, [](std::uint8_t c) { return c == 0 || (c >= 0x20 && c < 0x7F); });
}

}  // namespace

const Loaded* Console::working_tree() const { return tree_at_ != 0 ? at(tree_at_) : nullptr; }

int Console::tree_value(const Words& words) {
    // fdt get value <variable> <path> <property> [<index>]
    const Loaded* held = working_tree();
    const auto tree = held != nullptr ? DeviceTree::open(*held->bytes, tree_at_ - held->address)
                                      : fail(ErrorKind::NotFound, "the board's own tree is not at hand");
    if (!tree || words[2] != "value") return unfollowed("fdt get");
    const int node = tree->node(words[4]);
    if (node < 0) {
        say("libfdt fdt_path_offset() returned FDT_ERR_NOTFOUND");
        return 1;
    }
    const auto value = tree->property(node, words[5]);
    if (!tree->has(node, words[5])) {
        say("libfdt fdt_getprop(): FDT_ERR_NOTFOUND");
        return 1;
    }
    const std::size_t index = words.size() > 6 ? static_cast<std::size_t>(number_of(words[6]).value_or(0)) : 0;
    if (is_text(value)) {
        const auto all = tree->texts(node, words[5]);
        if (index >= all.size()) return 1;
        set(words[3], all[index]);
        return 0;
    }
    if (value.size() % 4 != 0 || (value.size() != 4 && words.size() < 7)) return unfollowed("fdt get");
    if (index * 4 >= value.size()) return 1;
    std::uint32_t number = 0;
    for (const auto byte : value.subspan(index * 4, 4)) number = number << 8U | byte;
    set(words[3], fmt::format("0x{:08X}", number));
    return 0;
}

/// fdt resize: room behind the tree's end, at least up to the end of a page.
int Console::make_room(const Words& words) {
    constexpr std::uint64_t page = 4096;
    const Loaded* held = working_tree();
    if (held == nullptr) return tree_at_ == 0 ? 1 : 0;
    const auto extra = words.size() > 2 ? number_of(words[2]).value_or(0) : 0;
    room_[tree_at_] = std::min<std::uint64_t>(extra, std::uint64_t{16} << 20U) + page;
    return 0;
}

int Console::lay_over(const Words& words) {
    const auto address = number_of(words[2]);
    const Loaded* base = working_tree();
    const Loaded* held = address ? at(*address) : nullptr;
    if (tree_at_ == 0 || !address || !build_.overlays) return 1;
    // The board's own tree is not at hand: whether the overlay fits, it alone tells.
    if (base == nullptr) return 0;
    if (held == nullptr) return 1;
    const auto tree = DeviceTree::open(*base->bytes, tree_at_ - base->address);
    const auto overlay = DeviceTree::open(*held->bytes, *address - held->address);
    if (!tree || !overlay) {
        say("failed on fdt_overlay_apply(): FDT_ERR_BADMAGIC");
        return 1;
    }
    const auto done = tree->with_overlay(*overlay, room_[tree_at_]);
    std::vector<std::uint8_t> bytes;
    std::string place;
    if (done) {
        bytes.assign(done->bytes().begin(), done->bytes().end());
        place = fmt::format("{} with {}", base->file.place, held->file.place);
    } else {
        // Both are spoilt then: a start with such a tree fails as well.
        trouble(Code::UbootTreeRefused,
                fmt::format("the overlay {} does not fit the device tree {}: {}", held->file.place, base->file.place,
                            done.error().what),
                {evidence_place(held->file.place, "an overlay that fits", done.error().what), here(words[2])},
                fmt::format("failed on fdt_overlay_apply(): {}", done.error().found));
        bytes.assign(tree->bytes().begin(), tree->bytes().end());
        std::fill_n(bytes.begin(), std::min<std::size_t>(4, bytes.size()), std::uint8_t{0xFF});
        place = fmt::format("{}, spoilt by {}", base->file.place, held->file.place);
    }
    put(remade(*base, std::move(bytes), std::move(place)));
    return done ? 0 : 1;
}

/// Memory that the kernel's device tree keeps for something else, where one of the files lies.
void Console::look_at_reservations(const DeviceTree& tree, const std::string& place,
                                   const std::vector<const Loaded*>& parts) {
    const int parent = tree.node("/reserved-memory");
    if (parent < 0) return;
    const auto cells = [&](const char* name, std::uint64_t otherwise) {
        return std::min<std::uint64_t>(tree.number(parent, name).value_or(otherwise), 2);
    };
    const auto address_cells = cells("#address-cells", 2);
    const auto size_cells = cells("#size-cells", 1);
    constexpr std::size_t most = 8;
    for (const int child : tree.children(parent)) {
        auto reg = tree.property(child, "reg");
        while (reg.size() >= (address_cells + size_cells) * 4 && address_cells + size_cells != 0) {
            const auto take = [&reg](std::uint64_t count) {
                std::uint64_t out = 0;
                for (const auto byte : reg.first(count * 4)) out = out << 8U | byte;
                reg = reg.subspan(count * 4);
                return out;
            };
            const auto begin = take(address_cells);
            const auto size = take(size_cells);
            for (const auto* held : parts) {
                if (held->address >= begin + size || begin >= held->address + held->size || findings_.size() >= most)
                    continue;
                findings_.push_back(
                    make_finding(Code::UbootReservedMemory,
                                 fmt::format("{} is loaded to {:#x}, into memory that the device tree {} keeps for {}",
                                             held->file.place, held->address, place, printable(tree.name(child))),
                                 {evidence_place(place + "/reserved-memory/" + printable(tree.name(child)), {},
                                                 fmt::format("{:#x} to {:#x}", begin, begin + size)),
                                  here(fmt::format("{:#x}", held->address))}));
            }
        }
    }
}

}  // namespace herberge::loader::uboot
