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

/// What a label comes to, with the variables and the memory as they are: what it loads stays there (label_boot).
MenuEntry Console::try_label(const VolumeRef& volume, const std::string& folder, const ExtlinuxLabel& label) {
    not_loaded_.clear();
    dead_ = false;
    line_ = label.line;
    MenuEntry entry;
    const auto full = [&](const std::string& name) { return name.starts_with('/') ? name : folder + name; };
    const auto retrieve = [&](const std::string& file, std::string_view to, const char* what) {
        const auto address = number_of(value(to));
        if (address && load(volume, full(file), *address)) return true;
        const auto missing = address ? not_loaded_.find(*address) : not_loaded_.end();
        Finding why = missing != not_loaded_.end()
                          ? missing->second.why
                          : make_finding(Code::UbootCommandsEnd,
                                         fmt::format("{} is loaded to no address: {} is not set", file, to));
        why.evidence = {evidence_line(label.place, label.line, {}, file)};
        why.symptom =
            fmt::format("** File not found {} **\nSkipping {} for failure retrieving {}", full(file), label.name, what);
        refuse(entry, std::move(why));
        return false;
    };
    const auto nothing = [&](std::string text, std::string screen) {
        refuse(entry, make_finding(Code::EntryLoadsNothing, std::move(text), {evidence_line(label.place, label.line)},
                                   std::move(screen)));
    };
    bool there = false;
    BootWords words;
    const std::string kernel_at = value("kernel_addr_r");
    if (label.local && !value("localcmd").empty())
        entry.unread = fmt::format("the label {} runs the variable localcmd, which is not followed here", label.name);
    else if (label.local)
        nothing(fmt::format("the label {} runs the variable localcmd, which is not set", label.name),
                "missing environment variable: localcmd");
    else if (label.kernel.empty())
        nothing(fmt::format("the label {} names no kernel", label.name),
                fmt::format("No kernel given, skipping {}", label.name));
    else there = true;
    if (there && !label.ramdisk.empty()) {
        there = retrieve(label.ramdisk, "ramdisk_addr_r", "initrd");
        words.ramdisk = fmt::format("{}:{}", value("ramdisk_addr_r"), value("filesize"));
    }
    there = there && retrieve(label.kernel, "kernel_addr_r", "kernel");
    if (there && label.arguments) set("bootargs", with_variables(*label.arguments));
    std::string tree;
    if (there && !value("fdt_addr_r").empty()) {
        if (!label.tree.empty()) {
            there = retrieve(label.tree, "fdt_addr_r", "FDT");
            tree = value("fdt_addr_r");
        } else if (const auto name = tree_name(); !label.tree_folder.empty() && !name.empty()) {
            const auto address = number_of(value("fdt_addr_r"));
            const std::string file = label.tree_folder + (label.tree_folder.ends_with('/') ? "" : "/") + name;
            if (address && load(volume, full(file), *address)) tree = value("fdt_addr_r");
        }
    }
    if (there) {
        const auto address = number_of(kernel_at);
        const Loaded* held = address ? at(*address) : nullptr;
        const auto head = held != nullptr ? held->bytes->bytes(0, std::min<std::uint64_t>(4, held->size))
                                          : fail(ErrorKind::NotFound, "nothing");
        const bool container =
            head && head->size() == 4 &&
            (((*head)[0] == 0xD0 && (*head)[1] == 0x0D) || ((*head)[0] == 0x27 && (*head)[1] == 0x05));
        words.command = container || label.fit ? "bootm" : board_.processor == Processor::Arm ? "bootz" : "booti";
        words.kernel = kernel_at + label.configuration;
        // Without either, an image tree's own counts.
        words.tree = tree.empty() ? value("fdt_addr") : tree;
        auto prepared = prepare(words);
        entry = std::move(prepared);
    } else {
        entry.kind = EntryKind::Linux;
        entry.started_by = KernelEntry::Board;
        entry.arguments = label.arguments ? with_variables(*label.arguments) : value("bootargs");
        if (!label.kernel.empty()) entry.kernel = {refer(*volume, label.kernel, full(label.kernel), label.line)};
    }
    for (auto* list : {&entry.kernel, &entry.ramdisks, &entry.devicetree})
        for (auto& file : *list) file.line = label.line;
    entry.title = label.title.empty() ? label.name : label.title;
    entry.id = label.name;
    entry.place = label.place;
    entry.line = label.line;
    return entry;
}

/// The device tree's file in a folder: as the variables say, or of the board's own names.
std::string Console::tree_name() const {
    if (const auto name = value("fdtfile"); !name.empty()) return name;
    const auto soc = value("soc");
    const auto board = value("board");
    if (board.empty()) return soc.empty() ? std::string{} : soc + ".dtb";
    return fmt::format("{}{}{}.dtb", soc, soc.empty() ? "" : "-", board);
}

int Console::sysboot(const VolumeRef& volume, const std::string& path) {
    const auto own = version();
    const bool knows_fit = own.find(" 2023.01") == std::string::npos && own.find(" 2022.") == std::string::npos &&
                           own.find(" 2021.") == std::string::npos;
    const auto read = read_extlinux(volume, path, knows_fit);
    const std::string place = fmt::format("{}:{}", volume->place, path);
    if (const auto& refusal = read.refusal; refusal && refusal->line == 0) {
        trouble(Code::UbootNothingFound, fmt::format("{} is given up: {}", place, refusal->why),
                {evidence_place(place, path, "absent")}, "Config file not found");
        return 1;
    } else if (refusal) {
        dead_ = refusal->deadly;
        trouble(Code::UbootMenuRefused, fmt::format("U-Boot gives {} up: {}", place, refusal->why),
                {evidence_line(refusal->place, refusal->line)},
                dead_ ? "\"Synchronous Abort\" handler\nresetting ..." : "Error parsing config file");
        return 1;
    }
    if (read.labels.empty()) {
        trouble(Code::UbootNothingFound, fmt::format("{} has no label", place),
                {evidence_place(place, "a label", "none")}, "(the prompt =>, without a message)");
        return 1;
    }
    Menu menu;
    menu.loader = "U-Boot";
    menu.place = place;
    menu.default_setting = read.chosen.value_or("");
    menu.timeout =
        read.prompt && read.timeout == 0 ? std::nullopt : std::optional<int>(read.prompt ? (read.timeout + 9) / 10 : 0);
    menu.style = read.prompt ? MenuStyle::Menu : MenuStyle::Hidden;
    menu.after_error = "=>";
    // Of several of that name the last; of one that is not there nothing is said, and the first is tried.
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < read.labels.size(); ++i)
        if (read.chosen && read.labels[i].name == *read.chosen) order = {i};
    menu.default_matches = !read.chosen || !order.empty();
    for (std::size_t i = 0; i < read.labels.size(); ++i)
        if (order.empty() || i != order.front()) order.push_back(i);
    menu.default_entry = static_cast<int>(order.front());
    menu.entries.resize(read.labels.size());
    const auto folder = path.substr(0, path.rfind('/') + 1);
    const auto variables = variables_;
    const auto memory = memory_;
    // One is tried behind the other, up to the first that does not come back; those behind it somebody may choose.
    std::optional<std::size_t> last;
    bool gone = false;
    for (const std::size_t i : order) {
        if (last) {
            variables_ = variables;
            memory_ = memory;
        }
        auto& entry = menu.entries[i] = try_label(volume, folder, read.labels[i]);
        entry.index = static_cast<int>(i);
        entry.path = {entry.index};
        if (last) continue;
        gone = dead_;
        if (i != order.front()) menu.fallback.push_back(entry.index);
        if (gone || entry.kernel_loaded) last = i;
    }
    variables_ = variables;
    memory_ = memory;
    dead_ = gone;
    if (last && !gone) {
        menu.fallback.clear();
        for (std::size_t i = 1; i < order.size(); ++i) menu.fallback.push_back(static_cast<int>(order[i]));
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
