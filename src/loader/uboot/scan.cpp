// SPDX-License-Identifier: MIT
// What the usual variables of distributions do (doc/develop/distro.rst), where only their names are known; and the
// newer bootflow (doc/develop/bootstd.rst), which looks for the same files.
#include <fmt/format.h>
#include <algorithm>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

int Console::scan(const std::vector<std::string>& targets) {
    for (const auto& target : targets) {
        if (over()) return 0;
        const auto digits = target.find_last_not_of("0123456789");
        if (digits == std::string::npos || digits + 1 == target.size()) continue;  // a network, or the board's own
        const std::string interface = target.substr(0, digits + 1);
        if (const auto own = variables_.find("bootcmd_" + target); own != variables_.end()) {
            run_variable(own->first);
            continue;
        }
        scan_medium(interface, target.substr(digits + 1));
    }
    return started_ ? 0 : 1;
}

int Console::scan_medium(const std::string& interface, const std::string& number) {
    const Disk* disk = device(interface, number);
    if (disk == nullptr) {
        say(fmt::format("Device {}: unknown device", number));
        return 1;
    }
    set("devtype", interface);
    set("devnum", number);
    std::vector<std::string> parts;
    for (const int one : bootable(*disk)) parts.push_back(fmt::format("{:x}", one));
    if (parts.empty()) parts.emplace_back("1");
    for (const auto& part : parts) {
        if (over()) return 0;
        set("distro_bootpart", part);
        const auto found = medium(interface, fmt::format("{}:{}", number, part));
        if (found.volume == nullptr) {
            say(found.problem);
            say(fmt::format("Couldn't find partition {} {}:{}", interface, number, part));
            continue;
        }
        if (files_of(*found.volume) == nullptr) continue;
        scan_volume();
    }
    return started_ ? 0 : 1;
}

int Console::scan_volume() {
    const std::string where = fmt::format("{}:{}", value("devnum"), value("distro_bootpart"));
    const std::string interface = value("devtype");
    say(fmt::format("Scanning {} {}...", interface, where));
    const auto found = medium(interface, where);
    for (const auto& prefix : words_of(value("boot_prefixes"))) {
        set("prefix", prefix);
        const std::string configuration = prefix + value("boot_syslinux_conf");
        if (exists({interface, where, configuration}, 0)) {
            say(fmt::format("Found {}", configuration));
            sysboot(found.volume, configuration);
            if (over()) return 0;
            say("EXTLINUX FAILED: continuing...");
        }
        for (const auto& script : words_of(value("boot_scripts"))) {
            if (!exists({interface, where, prefix + script}, 0)) continue;
            say(fmt::format("Found U-Boot script {}{}", prefix, script));
            const auto address = number_of(value("scriptaddr"));
            if (address && load(found.volume, prefix + script, *address)) do_source({"source", value("scriptaddr")});
            if (over()) return 0;
            say("SCRIPT FAILED: continuing...");
        }
    }
    const std::string application = lower_text(efi_machine_for(board_.processor).fallback);
    if (!exists({interface, where, application}, 0)) return 1;
    const auto address = number_of(value("kernel_addr_r"));
    if (!address || !load(found.volume, application, *address)) return 1;
    return do_bootefi({"bootefi", value("kernel_addr_r")});
}

int Console::do_bootflow(const Words& words) {
    // bootflow scan -b: the first that starts is started; without it they are only looked for. For `list` nothing was.
    if (words.size() < 2 || words[1] != "scan") return 1;
    const bool starts = std::any_of(words.begin() + 2, words.end(), [](const std::string& word) {
        return word.starts_with('-') && word.find('b') != std::string::npos;
    });
    if (!starts) return 0;
    auto targets = words_of(value("boot_targets"));
    std::ranges::replace(targets, board_.medium, std::string(board_.medium) + "0");
    return scan(targets);
}

}  // namespace herberge::loader::uboot
