// SPDX-License-Identifier: MIT
// The configurations of all loaders that are read by themselves: the input is a small FAT whose files it names. Each
// part of it, up to a byte FF, is a file: its path in the first line, or one character for a usual one.
#include <algorithm>
#include <cstdint>
#include <string>
#include <string_view>

#include <herberge/herberge.hpp>

#include "forge/forge.hpp"

namespace {

using namespace herberge;

constexpr std::string_view usual[] = {"/boot/grub/menu.lst",
                                      "/boot/grub/grub.cfg",
                                      "/syslinux.cfg",
                                      "/extlinux/extlinux.conf",
                                      "/loader/loader.conf",
                                      "/loader/entries/inn.conf",
                                      "/boot.ini",
                                      "/etc/lilo.conf",
                                      "/isolinux/isolinux.cfg",
                                      "/EFI/inn/grub.cfg",
                                      "/loader/entries/b.conf",
                                      "/boot/grub/grub.conf"};

std::string path_of(std::string_view word) {
    if (word.size() == 1 && word[0] >= 'a' && static_cast<std::size_t>(word[0] - 'a') < std::size(usual))
        return std::string(usual[static_cast<std::size_t>(word[0] - 'a')]);
    return std::string(word.substr(0, 60));
}

/// A name that the generator of volumes takes.
bool is_path(std::string_view path) {
    if (!path.starts_with('/') || path.size() < 2 || path.ends_with('/')) return false;
    for (std::size_t at = 1; at < path.size();) {
        const auto end = std::min(path.find('/', at), path.size());
        const auto part = path.substr(at, end - at);
        if (part.empty() || part.starts_with('.') || part.ends_with('.') || part.ends_with(' ') || part.size() > 40)
            return false;
        for (const char c : part)
            if (c < 0x21 || c > 0x7E || std::string_view("\"*/:<>?\\|").find(c) != std::string_view::npos) return false;
        at = end + 1;
    }
    return true;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    std::string_view rest(reinterpret_cast<const char*>(data), size);
    forge::Tree tree;
    std::vector<std::string> paths;
    while (!rest.empty() && paths.size() < 6) {
        const auto part = rest.substr(0, rest.find('\xFF'));
        rest.remove_prefix(std::min(part.size() + 1, rest.size()));
        const auto path = path_of(part.substr(0, part.find('\n')));
        // One path may not be a folder of another.
        const bool clash = std::ranges::any_of(
            paths, [&](const std::string& other) { return other.starts_with(path) || path.starts_with(other); });
        if (!is_path(path) || clash) continue;
        const auto head = std::min(part.find('\n'), part.size());
        tree.file(path, std::string(part.substr(std::min(head + 1, part.size()))));
        paths.push_back(path);
    }
    if (paths.empty()) return 0;
    forge::FatOptions fat;
    fat.size = 160U << 10U;
    Machine machine;
    try {
        machine.disks.push_back(inspect_disk(memory_source(forge::make_fat(tree, fat).bytes, "d1", 1), 1, "input"));
    } catch (const std::runtime_error&) {
        return 0;  // it does not fit
    }
    const auto volume = machine.volume(1, 0);
    if (volume == nullptr) return 0;
    Budget budget({.steps = 200'000});
    const BudgetScope scope(budget);
    (void)read_configurations(machine, *volume);
    for (const auto& path : paths)
        if (path.ends_with(".cfg")) (void)read_grub_config(machine, *volume, path);
    return 0;
}
