// SPDX-License-Identifier: MIT
#include "system/ramdisk_shell.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/listed.hpp"

namespace herberge {

namespace {

using Points = std::initializer_list<std::string_view>;

/// The word of the command line that asks, by its last value; empty: none does, or for a point that there is not.
std::string asking_word(const CommandLine& arguments, std::string_view name, Points points) {
    std::string out;
    for (const std::string_view word : arguments.words()) {
        if (word == name) out = word;
        if (!word.starts_with(name) || word.substr(name.size(), 1) != "=") continue;
        const bool known = any_listed(word.substr(name.size() + 1), [&](std::string_view point) {
            return std::ranges::find(points, point) != points.end();
        });
        out = known ? word : "";
    }
    return out;
}

std::string asking_word(const Ramdisk& ramdisk, const CommandLine& arguments) {
    if (ramdisk.builder == "initramfs-tools")
        return asking_word(arguments, "break", {"top", "modules", "premount", "mount", "mountroot", "bottom", "init"});
    if (ramdisk.builder == "dracut")
        return asking_word(
            arguments, "rd.break",
            {"cmdline", "pre-udev", "pre-trigger", "initqueue", "pre-mount", "mount", "pre-pivot", "cleanup"});
    if (ramdisk.builder == "mkinitcpio") return asking_word(arguments, "break", {"y", "premount", "postmount"});
    return {};
}

/// What initramfs-tools does with panic= (scripts/functions, panic); empty: it gives a shell.
std::string end_by_panic(std::string_view value) {
    const auto count = [](std::string_view text) {
        return !text.empty() && text.find_first_not_of("0123456789.") == std::string_view::npos;
    };
    if (value.empty()) return {};
    const bool below = value.starts_with('-');
    const bool waits = below ? !count(value.substr(1)) : value == "0" || !count(value);
    return waits ? "Halting automatically due to panic= boot argument"
                 : "Rebooting automatically due to panic= boot argument";
}

}  // namespace

void judge_asked_shell(const Ramdisk& ramdisk, const CommandLine& arguments, Claim& claim) {
    const auto word = asking_word(ramdisk, arguments);
    if (word.empty() || claim.state == State::Breaks) return;
    const auto where = evidence_place("the command line", {}, printable(word));
    const bool own = ramdisk.builder == "initramfs-tools";
    const std::string screen = own ? "Spawning shell within the initramfs" : "";
    if (const auto end = own ? end_by_panic(arguments.value("panic").value_or("")) : ""; !end.empty()) {
        claim.break_with(make_finding(Code::RamdiskShellAsked,
                                      fmt::format("{} stops the RAM disk before the system is reached, and panic={} "
                                                  "takes the place of its shell",
                                                  printable(word), printable(*arguments.value("panic"))),
                                      {where}, screen + "\n" + end));
        return;
    }
    auto finding = make_finding(
        Code::RamdiskShellAsked,
        fmt::format("{} stops the RAM disk at a shell; the system is started when that is left", printable(word)),
        {where}, screen);
    claim.text += fmt::format("; but {}", finding.text);
    if (claim.state == State::Holds) claim.state = State::Doubtful;
    claim.evidence.push_back(where);
    claim.findings.push_back(std::move(finding));
}

}  // namespace herberge
