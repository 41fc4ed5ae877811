// SPDX-License-Identifier: MIT
// Units of systemd, tables and scripts of other inits: a small root is made of the input. Each part of it, up to a byte
// FF, is a file: its path in the first line, a link where "->" begins the second.
#include <cstdint>
#include <string>
#include <string_view>

#include <herberge/herberge.hpp>

#include "forge/forge.hpp"
#include "system/run_levels.hpp"
#include "system/units/names.hpp"
#include "system/units/text.hpp"

namespace {

using namespace herberge;

/// Names that the input need not guess.
std::string path_of(std::string_view word) {
    if (word.starts_with('/')) return std::string(word.substr(0, 200));
    return "/etc/systemd/system/" + std::string(word.substr(0, 200));
}

bool is_path(std::string_view path) {
    if (path.find("//") != std::string_view::npos || path.ends_with('/') || path.find('\0') != std::string_view::npos)
        return false;
    for (std::size_t at = 1; at < path.size();) {
        const auto end = std::min(path.find('/', at), path.size());
        const auto part = path.substr(at, end - at);
        if (part.empty() || part == "." || part == ".." || part.size() > 120) return false;
        at = end + 1;
    }
    return path.size() > 1;
}

void decoders(std::string_view text) {
    (void)units::parse_unit(text, "/u");
    (void)units::quoted_words(text);
    (void)units::parts_of(text.substr(0, text.find('\n')));
    (void)units::unescape_path(text);
    (void)units::escape_path(text);
    (void)units::expand_specifiers(text, {"room-a@b.service", "m", "h", "k", "o", "v", "b", "/f"});
    (void)parse_inittab(text);
    (void)parse_depend(text);
    (void)parse_fstab(text);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    constexpr std::size_t most = 8192;
    if (size > most) return 0;
    const std::string_view all(reinterpret_cast<const char*>(data), size);
    decoders(all);
    forge::Tree tree;
    tree.file("/usr/lib/systemd/system/multi-user.target", "[Unit]\nRequires=basic.target\nAfter=basic.target\n");
    tree.file("/usr/lib/systemd/system/basic.target", "[Unit]\nRequires=sysinit.target\nAfter=sysinit.target\n");
    tree.file("/usr/lib/systemd/system/sysinit.target",
              "[Unit]\nWants=local-fs.target cryptsetup.target\nAfter=local-fs.target\n");
    tree.file("/usr/lib/systemd/system/local-fs.target",
              "[Unit]\nDefaultDependencies=no\nOnFailure=emergency.target\n");
    tree.file("/usr/lib/systemd/system/rescue.target", "[Unit]\n");
    std::string arguments;
    for (auto rest = all; !rest.empty();) {
        const auto end = std::min(rest.find('\xFF'), rest.size());
        const auto part = rest.substr(0, end);
        rest.remove_prefix(std::min(end + 1, rest.size()));
        const auto line = std::min(part.find('\n'), part.size());
        const auto path = path_of(part.substr(0, line));
        const auto text = part.substr(std::min(line + 1, part.size()));
        if (part.starts_with("words ")) arguments = part.substr(6, 300);
        if (!is_path(path)) continue;
        try {
            if (text.starts_with("->") && text.size() > 2) tree.link(path, std::string(text.substr(2, 200)));
            else tree.file(path, text, 0755);
        } catch (const std::exception&) {
            return 0;  // a file where a folder must be
        }
    }
    forge::ExtOptions ext;
    ext.size = 2U << 20U;
    forge::Bytes image;
    try {
        image = forge::make_ext(tree, ext);
    } catch (const std::exception&) {
        return 0;
    }
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(std::move(image), "d1"), 1, "d1"));
    const auto volume = machine.volume(1, 0);
    if (volume == nullptr || volume->files(Observer::Linux) == nullptr) return 0;
    const CommandLine line(arguments);
    UnitStore store(*volume, line);
    const auto plan = plan_boot(store, systemd_target(line));
    const auto outcome = follow_start(machine, *volume, line, store, plan, Processor::X86);
    // Each job has an outcome, and each tie its other end.
    if (outcome.units.size() != plan.jobs.size()) __builtin_trap();
    for (const auto* unit : store.all())
        for (const auto& tie : unit->ties)
            if (store.find(tie.unit) == nullptr) __builtin_trap();
    return 0;
}
