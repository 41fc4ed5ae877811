// SPDX-License-Identifier: MIT
// The modules of a kernel on its root: what modprobe(8) finds there once the RAM disk is left.
#include <fmt/format.h>
#include <algorithm>

#include "system/drivers.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t most_list = std::uint64_t{8} << 20U;

/// A list of modules ("kernel/fs/fat/vfat.ko.xz: …") names this one; '-' and '_' are the same.
bool lists(std::string_view text, std::string_view module) {
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        auto line = text.substr(0, std::min(text.find(':'), end));
        text.remove_prefix(std::min(end + 1, text.size()));
        line.remove_prefix(std::min(line.rfind('/') + 1, line.size()));
        line = line.substr(0, line.find(".ko"));
        const bool same = line.size() == module.size() &&
                          std::equal(line.begin(), line.end(), module.begin(),
                                     [](char a, char b) { return (a == '-' ? '_' : a) == (b == '-' ? '_' : b); });
        if (same) return true;
    }
    return false;
}

}  // namespace

std::optional<bool> root_has_driver(const FileSystem& root, const RootDemand& demand, Format wanted) {
    const auto& traits = traits_of(wanted);
    if (traits.linux_module.empty() || demand.kernel_release.empty()) return std::nullopt;
    // The root itself is mounted by then.
    if (traits_of(demand.file_system).linux_module == traits.linux_module) return true;
    // A format may have more drivers than one: the table's option is not told then.
    const auto option = traits.family == Family::Fat ? std::string_view("CONFIG_VFAT_FS") : traits.kernel_option;
    return root_has_module(root, demand, traits.linux_module, option);
}

std::optional<bool> root_has_module(const FileSystem& root, const RootDemand& demand, std::string_view module,
                                    std::string_view option) {
    if (demand.kernel_release.empty()) return std::nullopt;
    const auto inside = drivers::builtin(demand, module, option);
    if (inside == drivers::Told::Yes) return true;
    const auto known =
        read_text_file(root, fmt::format("/lib/modules/{}/modules.dep", demand.kernel_release), most_list);
    if (known && lists(*known, module)) return true;
    // A root without any modules leaves them all to its RAM disk.
    if (!resolve(root, "/lib/modules")) return std::nullopt;
    const bool told = known || (!known.error().unreadable() && known.error().kind != ErrorKind::TooLarge);
    return told && inside == drivers::Told::No ? std::optional(false) : std::nullopt;
}

}  // namespace herberge
