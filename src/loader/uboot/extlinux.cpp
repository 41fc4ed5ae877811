// SPDX-License-Identifier: MIT
// What the labels of an extlinux.conf come to (boot/pxe_utils.c of 2023.01).
#include <fmt/format.h>
#include <algorithm>

#include "loader/uboot/console.hpp"
#include "loader/uboot/extlinux_text.hpp"

namespace herberge::loader::uboot {

int Console::do_sysboot(const Words& words) {
    // sysboot [-p] <interface> <dev[:part]> <ext2|fat|any> [addr] [filename]
    Words asked(words.begin() + 1, words.end());
    std::erase(asked, std::string("-p"));
    if (asked.size() < 3) return 1;
    const auto found = medium(asked[0], asked[1]);
    if (found.volume == nullptr) {
        say(found.problem);
        return 1;
    }
    const std::string path = asked.size() > 4 ? asked[4] : value("bootfile");
    return sysboot(found.volume, path.starts_with('/') ? path : "/" + path);
}

/// A file of a label's to where a variable says; false: it is not there, and the label is passed over
/// (get_relfile_envaddr).
bool Console::retrieve(const VolumeRef& volume, const ExtlinuxLabel& label, const std::string& file,
                       std::string_view to, const char* what, MenuEntry& entry) {
    const auto address = number_of(value(to));
    if (address && load(volume, file, *address)) return true;
    const auto missing = address ? not_loaded_.find(*address) : not_loaded_.end();
    Finding why =
        missing != not_loaded_.end()
            ? missing->second.why
            : make_finding(Code::UbootCommandsEnd, fmt::format("{} is loaded to no address: {} is not set", file, to));
    why.evidence = {evidence_line(label.place, label.line, {}, file)};
    why.symptom = fmt::format("** File not found {} **\nSkipping {} for failure retrieving {}", file, label.name, what);
    refuse(entry, std::move(why));
    return false;
}

/// The device tree's file in a folder: as the variables say, or of the board's own names.
std::string Console::tree_name() const {
    if (auto name = value("fdtfile"); !name.empty()) return name;
    const auto soc = value("soc");
    const auto board = value("board");
    if (board.empty()) return soc.empty() ? std::string{} : soc + ".dtb";
    return fmt::format("{}{}{}.dtb", soc, soc.empty() ? "" : "-", board);
}

/// Whether a label may be started at all; the reason why not becomes the entry's.
bool Console::names_a_kernel(const ExtlinuxLabel& label, MenuEntry& entry) const {
    if (!label.local && !label.kernel.empty()) return true;
    const bool set = !value("localcmd").empty();
    if (label.local && set) {
        entry.unread = fmt::format("the label {} runs the variable localcmd, which is not followed here", label.name);
        return false;
    }
    refuse(entry, Code::EntryLoadsNothing,
           fmt::format(fmt::runtime(label.local ? "the label {} runs the variable localcmd, which is not set"
                                                : "the label {} names no kernel"),
                       label.name),
           {evidence_line(label.place, label.line)},
           label.local ? "missing environment variable: localcmd"
                       : fmt::format("No kernel given, skipping {}", label.name));
    return false;
}

/// Loads what a label names, each file to its place in memory (label_boot). None: one is not there.
std::optional<BootWords> Console::load_label(const VolumeRef& volume, const std::string& folder,
                                             const ExtlinuxLabel& label, MenuEntry& entry) {
    BootWords words;
    const auto bring = [&](const std::string& name, std::string_view to, const char* what) {
        return retrieve(volume, label, beside(folder, name), to, what, entry);
    };
    if (!names_a_kernel(label, entry)) return std::nullopt;
    if (!label.ramdisk.empty()) {
        if (!bring(label.ramdisk, "ramdisk_addr_r", "initrd")) return std::nullopt;
        words.ramdisk = fmt::format("{}:{}", value("ramdisk_addr_r"), value("filesize"));
    }
    if (!bring(label.kernel, "kernel_addr_r", "kernel")) return std::nullopt;
    if (label.arguments) set("bootargs", with_variables(*label.arguments));
    // Without a tree of its own, the one that the board names.
    words.tree = value("fdt_addr");
    if (const auto at = value("fdt_addr_r"); !at.empty() && !label.tree.empty()) {
        if (!bring(label.tree, "fdt_addr_r", "FDT")) return std::nullopt;
        words.tree = at;
    } else if (const auto name = tree_name(); !at.empty() && !label.tree_folder.empty() && !name.empty()) {
        const auto address = number_of(at);
        const std::string file = label.tree_folder + (label.tree_folder.ends_with('/') ? "" : "/") + name;
        if (address && load(volume, beside(folder, file), *address)) words.tree = at;
    }
    const auto address = number_of(value("kernel_addr_r"));
    const Loaded* held = address ? at(*address) : nullptr;
    const auto head = held != nullptr ? held->bytes->bytes(0, std::min<std::uint64_t>(4, held->size))
                                      : fail(ErrorKind::NotFound, "nothing");
    const bool container = head && head->size() == 4 &&
                           (((*head)[0] == 0xD0 && (*head)[1] == 0x0D) || ((*head)[0] == 0x27 && (*head)[1] == 0x05));
    words.command = container || label.fit ? "bootm" : board_.processor == Processor::Arm ? "bootz" : "booti";
    words.kernel = value("kernel_addr_r") + label.configuration;
    return words;
}

/// What a label comes to, with the variables and the memory as they are: what it changes of them stays.
MenuEntry Console::try_label(const VolumeRef& volume, const std::string& folder, const ExtlinuxLabel& label) {
    not_loaded_.clear();
    dead_ = false;
    line_ = label.line;
    MenuEntry entry;
    if (const auto words = load_label(volume, folder, label, entry)) {
        entry = prepare(*words);
    } else {
        entry.kind = EntryKind::Linux;
        entry.started_by = KernelEntry::Board;
        entry.arguments = label.arguments ? with_variables(*label.arguments) : value("bootargs");
        if (!label.kernel.empty())
            entry.kernel = {refer(*volume, label.kernel, beside(folder, label.kernel), label.line)};
    }
    for (auto* list : {&entry.kernel, &entry.ramdisks, &entry.devicetree})
        for (auto& file : *list) file.line = label.line;
    entry.title = label.title.empty() ? label.name : label.title;
    entry.id = label.name;
    entry.place = label.place;
    entry.line = label.line;
    return entry;
}

/// Whether a menu comes to nothing before any label is tried; then why is told.
bool Console::is_given_up(const ExtlinuxMenu& menu, const std::string& place) {
    if (const auto& refusal = menu.refusal; refusal && refusal->line == 0) {
        trouble(Code::UbootNothingFound, fmt::format("{} is given up: {}", place, refusal->why),
                {evidence_place(place, "a file", "absent")}, "Config file not found");
        return true;
    } else if (refusal) {
        dead_ = refusal->deadly;
        trouble(Code::UbootMenuRefused, fmt::format("U-Boot gives {} up: {}", place, refusal->why),
                {evidence_line(refusal->place, refusal->line)},
                dead_ ? "\"Synchronous Abort\" handler\nresetting ..." : "Error parsing config file");
        return true;
    }
    if (!menu.labels.empty()) return false;
    trouble(Code::UbootNothingFound, fmt::format("{} has no label", place), {evidence_place(place, "a label", "none")},
            "(the prompt =>, without a message)");
    return true;
}

namespace {

/// The order in which labels are tried: the chosen one, of several of that name the last; then the others.
std::vector<std::size_t> order_of(const ExtlinuxMenu& menu) {
    std::vector<std::size_t> out;
    for (std::size_t i = 0; i < menu.labels.size(); ++i)
        if (menu.chosen && menu.labels[i].name == *menu.chosen) out = {i};
    const auto chosen = out.empty() ? menu.labels.size() : out.front();
    for (std::size_t i = 0; i < menu.labels.size(); ++i)
        if (i != chosen) out.push_back(i);
    return out;
}

}  // namespace

int Console::sysboot(const VolumeRef& volume, const std::string& path) {
    const auto read = read_extlinux(volume, path, !is_early());
    const std::string place = fmt::format("{}:{}", volume->place, path);
    if (is_given_up(read, place)) return 1;
    Menu menu;
    menu.loader = "U-Boot";
    menu.place = place;
    menu.default_setting = read.chosen.value_or("");
    menu.timeout =
        read.prompt && read.timeout == 0 ? std::nullopt : std::optional<int>(read.prompt ? (read.timeout + 9) / 10 : 0);
    menu.style = read.prompt ? MenuStyle::Menu : MenuStyle::Hidden;
    menu.after_error = "=>";
    const auto order = order_of(read);
    // Of a name that no label has nothing is said.
    menu.default_matches = !read.chosen || read.labels[order.front()].name == *read.chosen;
    menu.default_entry = static_cast<int>(order.front());
    menu.entries.resize(read.labels.size());
    const auto folder = path.substr(0, path.rfind('/') + 1);
    const auto variables = variables_;
    const auto memory = memory_;
    // One is tried behind the other, up to the first that does not come back; those behind it somebody may choose.
    bool ended = false;
    bool gone = false;
    for (const std::size_t i : order) {
        if (ended) {
            variables_ = variables;
            memory_ = memory;
        }
        auto& entry = menu.entries[i] = try_label(volume, folder, read.labels[i]);
        entry.index = static_cast<int>(i);
        entry.path = {entry.index};
        if (i != order.front() && !gone) menu.fallback.push_back(entry.index);
        if (ended) continue;
        gone = dead_;
        ended = gone || entry.kernel_loaded;
    }
    variables_ = variables;
    memory_ = memory;
    dead_ = gone;
    if (ended && !gone) {
        started_ = std::move(menu);
        return 0;
    }
    const auto& first = menu.entries[order.front()];
    const Finding why =
        first.stop ? *first.stop
                   : make_finding(Code::UbootCommandsEnd, first.unread, {evidence_line(first.place, first.line)},
                                  "(the prompt =>, without a message)");
    trouble(why.code, why.text, why.evidence, why.symptom, std::move(menu));
    return 1;
}

}  // namespace herberge::loader::uboot
