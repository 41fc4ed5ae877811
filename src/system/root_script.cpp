// SPDX-License-Identifier: MIT
#include "system/root_script.hpp"

#include <fmt/format.h>

#include "system/config_text.hpp"

namespace herberge {

namespace {

void take(std::string_view text, std::string_view key, std::string& value) {
    each_line(text, [&](int, std::string_view line) {
        line.remove_prefix(std::min(line.find_first_not_of(" \t"), line.size()));
        if (line.starts_with("export ")) line.remove_prefix(7);
        if (!line.starts_with(key) || line.substr(key.size(), 1) != "=") return;
        line.remove_prefix(key.size() + 1);
        const bool quoted = line.starts_with('"') || line.starts_with('\'');
        const auto end = quoted ? line.find(line.front(), 1) : line.find_first_of(" \t\r;#");
        value = line.substr(quoted ? 1 : 0, end == std::string_view::npos ? end : end - (quoted ? 1 : 0));
    });
}

/// The script's name, and the word that asks for it.
struct Asked {
    std::string script = "local";
    std::string by;
};

Asked asked_script(const Ramdisk& ramdisk, const CommandLine& arguments) {
    Asked out;
    std::string boot = ramdisk_setting(ramdisk, "BOOT");
    if (!boot.empty()) out.by = "BOOT=" + boot;
    for (const std::string_view word : arguments.words()) {
        if (word.starts_with("boot=")) boot = word.substr(5);
        else if (word == "root=/dev/nfs" && boot.empty()) boot = "nfs";
        else continue;
        out.by = word;
    }
    if (!boot.empty()) out.script = boot;
    return out;
}

}  // namespace

std::string ramdisk_setting(const Ramdisk& ramdisk, std::string_view key) {
    std::string value;
    if (const auto* file = ramdisk.find("conf/initramfs.conf")) take(file->content, key, value);
    for (const auto& [path, file] : ramdisk.files)
        if (path.starts_with("conf/conf.d/")) take(file.content, key, value);
    return value;
}

Claim judge_root_script(const Ramdisk& ramdisk, const CommandLine& arguments) {
    Claim claim;
    claim.stage = Stage::Root;
    claim.state = State::Holds;
    if (ramdisk.builder != "initramfs-tools") return claim;
    const auto asked = asked_script(ramdisk, arguments);
    if (asked.script == "local") return claim;
    const auto by =
        evidence_place(asked.by.starts_with("BOOT=") ? "RAM disk:/conf" : "the command line", {}, printable(asked.by));
    const auto path = "scripts/" + asked.script;
    if (asked.script == "nfs" || ramdisk.find(path) != nullptr) {
        claim.state = State::Unknown;
        claim.text = asked.script == "nfs"
                         ? fmt::format("the root comes from the network ({}): nothing here tells what answers there",
                                       printable(asked.by))
                         : fmt::format("{}: another script of the RAM disk mounts the root, which is not followed",
                                       printable(asked.by));
        claim.evidence = {by};
        return claim;
    }
    claim.break_with(make_finding(
        Code::RamdiskNoRootScript,
        fmt::format("{} asks the RAM disk for its script {}, which it does not have: its init ends there",
                    printable(asked.by), printable(path)),
        {by, evidence_place("RAM disk:/" + path, "a script", "not there")},
        fmt::format("{}\n---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000200 ]---",
                    ramdisk.find("bin/busybox") != nullptr
                        ? fmt::format("can't open '/{}': No such file or directory", printable(path))
                        : fmt::format("cannot open /{}: No such file", printable(path)))));
    return claim;
}

}  // namespace herberge
