// SPDX-License-Identifier: MIT
// The modules of a kernel on its root: what modprobe(8) finds there once the RAM disk is left.
#include <fmt/format.h>
#include <algorithm>
#include <cctype>

#include "bytes/listed.hpp"
#include "system/config_text.hpp"
#include "system/drivers.hpp"
#include "system/modprobe_rules.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t most_list = std::uint64_t{8} << 20U;

/// Of a list of modules ("kernel/fs/fat/vfat.ko.xz: kernel/fs/fat/fat.ko.xz") the files that this one needs, itself
/// first; empty: it is not listed. '-' and '_' are the same.
std::vector<std::string> files_of(std::string_view text, std::string_view module) {
    std::vector<std::string> out;
    const auto wanted = drivers::module_name(module);
    each_line(text, [&](int, std::string_view line) {
        const auto path = line.substr(0, line.find(':'));
        auto name = path.substr(std::min(path.rfind('/') + 1, path.size()));
        name = name.substr(0, name.find(".ko"));
        if (!out.empty() || drivers::module_name(name) != wanted) return;
        out.emplace_back(path);
        for (auto& more : blank_words(line.substr(std::min(path.size() + 1, line.size())))) out.push_back(more);
    });
    return out;
}

DriverAnswer lacks(std::string why, std::string place) { return {false, std::move(why), std::move(place)}; }

/// A rule that keeps this module from being loaded, by its file and line; empty: none does.
std::string rule_against(const FileSystem& root, std::string_view module, bool by_alias) {
    const auto wanted = drivers::module_name(module);
    for (const auto& rule : modprobe_rules(root))
        if ((rule.replaced || by_alias) && rule.module == wanted)
            return fmt::format("{}, line {}", rule.path, rule.line);
    return {};
}

/// What keeps modprobe(8) from loading these files of `folder`.
DriverAnswer can_be_loaded(const FileSystem& root, const std::string& folder, const std::vector<std::string>& files,
                           std::string_view module) {
    // Tables of characters are asked for by their own names.
    if (auto rule = rule_against(root, module, !module.starts_with("nls_")); !rule.empty())
        return lacks(fmt::format("{} keeps {} from being loaded", rule, module), rule.substr(0, rule.find(',')));
    for (const auto& file : files) {
        const auto path = file.starts_with('/') ? file : fmt::format("{}/{}", folder, file);
        if (const auto found = resolve(root, path); !found)
            return found.error().unreadable() ? DriverAnswer{} : lacks(fmt::format("{} is not there", path), path);
    }
    // BusyBox' own program reads the list itself.
    const auto program = resolve(root, "/sbin/modprobe");
    if (!program && !program.error().unreadable())
        return lacks("/sbin/modprobe, which the kernel asks for modules, is not there", "/sbin/modprobe");
    if (!program || !program->path.ends_with("/kmod")) return {true, {}, {}};
    for (const char* index : {"modules.dep.bin", "modules.alias.bin"}) {
        const auto path = fmt::format("{}/{}", folder, index);
        if (const auto found = resolve(root, path); !found && !found.error().unreadable())
            return lacks(fmt::format("modprobe finds no module without {}", path), path);
    }
    return {true, {}, {}};
}

/// "CONFIG_FAT_DEFAULT_CODEPAGE=437" → "437"; empty: it is not said.
std::string set_to(std::string_view config, std::string_view option) {
    std::string out;
    each_line(config, [&](int, std::string_view line) {
        if (!line.starts_with(option) || line.substr(option.size(), 1) != "=") return;
        out = line.substr(option.size() + 1);
        std::erase(out, '"');
    });
    return out;
}

/// A mount of a FAT loads two tables of characters, by its options or the kernel's own choice, and fails without
/// (fs/fat/inode.c, fat_fill_super; fs/nls/nls_base.c; really started).
DriverAnswer has_characters(const FileSystem& root, const RootDemand& demand, std::string_view options) {
    std::string page = set_to(demand.config, "CONFIG_FAT_DEFAULT_CODEPAGE");
    std::string set = set_to(demand.config, "CONFIG_FAT_DEFAULT_IOCHARSET");
    any_listed(options, [&](std::string_view option) {
        if (option.starts_with("codepage=")) page = option.substr(9);
        if (option.starts_with("iocharset=")) set = option.substr(10);
        return false;
    });
    if (!page.empty())
        if (auto out = root_has_module(root, demand, "nls_cp" + page, "CONFIG_NLS_CODEPAGE_" + page);
            out.there == false)
            return out;
    if (set.empty()) return {};
    std::string option = "CONFIG_NLS_";
    for (const char c : set) option += c == '-' ? '_' : static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    return root_has_module(root, demand, "nls_" + set, option);
}

}  // namespace

DriverAnswer root_has_driver(const FileSystem& root, const RootDemand& demand, Format wanted,
                             std::string_view options) {
    const auto& traits = traits_of(wanted);
    if (traits.linux_module.empty() || demand.kernel_release.empty()) return {};
    // The root itself is mounted by then.
    if (traits_of(demand.file_system).linux_module == traits.linux_module) return {true, {}, {}};
    // A format may have more drivers than one: the table's option is not told then.
    const auto option = traits.family == Family::Fat ? std::string_view("CONFIG_VFAT_FS") : traits.kernel_option;
    auto out = root_has_module(root, demand, traits.linux_module, option);
    if (out.there == false || traits.family != Family::Fat) return out;
    auto characters = has_characters(root, demand, options);
    return characters.there == false ? characters : out;
}

DriverAnswer root_has_module(const FileSystem& root, const RootDemand& demand, std::string_view module,
                             std::string_view option) {
    if (demand.kernel_release.empty()) return {};
    const auto inside = drivers::builtin(demand, module, option);
    if (inside == drivers::Told::Yes || demand.loaded.contains(drivers::module_name(module))) return {true, {}, {}};
    const std::string folder = "/lib/modules/" + demand.kernel_release;
    const auto list = read_text_file(root, folder + "/modules.dep", most_list);
    const auto files = list ? files_of(*list, module) : std::vector<std::string>{};
    if (!files.empty()) {
        auto out = can_be_loaded(root, folder, files, module);
        // The RAM disk may have loaded what the root lacks, or the kernel has it inside.
        return out.there == false && inside != drivers::Told::No ? DriverAnswer{} : out;
    }
    // A root without any modules may leave them all to its RAM disk.
    if (!resolve(root, "/lib/modules") && !demand.loads_for_root_alone) return {};
    const bool told = list || (!list.error().unreadable() && list.error().kind != ErrorKind::TooLarge);
    if (!told || inside != drivers::Told::No) return {};
    return lacks("neither built in nor in " + folder, folder);
}

}  // namespace herberge
