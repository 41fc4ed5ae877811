// SPDX-License-Identifier: MIT
// extlinux.conf as U-Boot reads it (boot/pxe_utils.c of 2023.01), and what each of its labels comes to.
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <charconv>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

constexpr int most_includes = 16;
constexpr std::size_t most_labels = 256;

struct Label {
    std::string name, title, kernel, configuration, arguments, ramdisk, tree, tree_folder;
    bool local = false;
    bool fit = false;
    std::string place;
    int line = 0;
};

struct Configuration {
    std::string title, chosen;
    int timeout = 0;  ///< tenths of a second
    bool prompt = false;
    std::vector<Label> labels;
    std::string missing;  ///< an included file that is not there: the whole is given up
};

/// Keywords in any case; a value is the rest of its line behind the blanks, a carriage return included.
class Reader {
public:
    Reader(const VolumeRef& volume, Configuration& out) : volume_(volume), out_(out) {}

    bool file(const std::string& path, int depth) {
        const auto reference = refer(*volume_, path, path, 0);
        const auto source = files_of(*volume_) != nullptr ? open_file(reference) : nullptr;
        const auto text = source ? source->text(std::uint64_t{1} << 20U) : fail(ErrorKind::NotFound, "no file");
        if (!text || depth > most_includes) {
            out_.missing = path;
            return false;
        }
        const std::string place = fmt::format("{}:{}", volume_->place, path);
        std::string_view rest(*text);
        for (int line = 1; !rest.empty() && rest.front() != '\0'; ++line) {
            const auto end = std::min(rest.find('\n'), rest.size());
            take(rest.substr(0, end), place, line);
            rest.remove_prefix(std::min(end + 1, rest.size()));
            if (include_.empty()) continue;
            const std::string next =
                include_.starts_with('/') ? include_ : path.substr(0, path.rfind('/') + 1) + include_;
            include_.clear();
            if (!file(next, depth + 1)) return false;
        }
        return true;
    }

private:
    static std::string word(std::string_view& rest) {
        rest.remove_prefix(std::min(rest.find_first_not_of(" \t"), rest.size()));
        const auto end = std::min(rest.find_first_of(" \t\r"), rest.size());
        std::string out = lower_text(rest.substr(0, end));
        rest.remove_prefix(end);
        return out;
    }
    static std::string value(std::string_view rest) {
        rest.remove_prefix(std::min(rest.find_first_not_of(" \t"), rest.size()));
        return std::string(rest);
    }

    void take(std::string_view rest, const std::string& place, int line) {
        const auto key = word(rest);
        if (key.empty() || key.front() == '#') return;
        if (key == "label") {
            if (out_.labels.size() >= most_labels) return;
            out_.labels.emplace_back();
            out_.labels.back().name = value(rest);
            out_.labels.back().place = place;
            out_.labels.back().line = line;
            inside_ = true;
            return;
        }
        if (key == "menu") {
            const auto what = word(rest);
            if (what == "title") out_.title = value(rest);
            else if (what == "include") include_ = value(rest);
            else if (what == "default" && !out_.labels.empty()) out_.chosen = out_.labels.back().name;
            else if (what == "label" && !out_.labels.empty()) out_.labels.back().title = value(rest);
            return;
        }
        if (key == "include") include_ = value(rest);
        else if (key == "timeout") out_.timeout = number(rest);
        else if (key == "prompt") out_.prompt = number(rest) != 0;
        else if (out_.labels.empty()) {
            if (key == "default" || key == "ontimeout") out_.chosen = value(rest);
        } else {
            in_label(key, rest, out_.labels.back());
        }
        // What is no word of a label ends it: the words of labels that follow are passed over, up to the next label.
        static constexpr std::array<std::string_view, 14> words = {"kernel",
                                                                   "linux",
                                                                   "fit",
                                                                   "append",
                                                                   "initrd",
                                                                   "fdt",
                                                                   "devicetree",
                                                                   "fdtdir",
                                                                   "devicetreedir",
                                                                   "fdtoverlays",
                                                                   "devicetree-overlay",
                                                                   "localboot",
                                                                   "ipappend",
                                                                   "kaslrseed"};
        if (std::ranges::find(words, std::string_view(key)) == words.end()) inside_ = false;
    }

    void in_label(const std::string& key, std::string_view rest, Label& label) {
        if (key == "default" || key == "ontimeout") out_.chosen = value(rest);
        else if (!inside_) return;
        else if (key == "kernel" || key == "linux" || key == "fit") {
            label.kernel = value(rest);
            label.fit = key == "fit";
            if (const auto mark = label.kernel.find('#'); mark != std::string::npos) {
                label.configuration = label.kernel.substr(mark);
                label.kernel.resize(mark);
            }
        } else if (key == "append") label.arguments = value(rest);
        else if (key == "initrd") label.ramdisk = value(rest);
        else if (key == "fdt" || key == "devicetree") label.tree = value(rest);
        else if (key == "fdtdir" || key == "devicetreedir") label.tree_folder = value(rest);
        else if (key == "localboot") label.local = true;
    }

    static int number(std::string_view rest) {
        const auto text = value(rest);
        int out = 0;
        std::from_chars(text.data(), text.data() + text.size(), out);
        return std::clamp(out, 0, 1'000'000);
    }

    const VolumeRef& volume_;
    Configuration& out_;
    std::string include_;
    bool inside_ = false;  ///< a label
};

}  // namespace

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

int Console::sysboot(const VolumeRef& volume, const std::string& path) {
    Configuration configuration;
    const std::string place = fmt::format("{}:{}", volume->place, path);
    Reader reader(volume, configuration);
    if (!reader.file(path, 0)) {
        trouble(Code::UbootNothingFound, fmt::format("{} is given up: {} is not there", place, configuration.missing),
                {evidence_place(place, configuration.missing, "absent")}, "Config file not found");
        return 1;
    }
    Menu menu;
    menu.loader = "U-Boot";
    menu.place = place;
    menu.default_setting = configuration.chosen;
    menu.timeout = configuration.prompt && configuration.timeout == 0
                       ? std::nullopt
                       : std::optional(configuration.prompt ? (configuration.timeout + 9) / 10 : 0);
    menu.style = configuration.prompt ? MenuStyle::Menu : MenuStyle::Hidden;
    menu.after_error = "=>";
    const std::string folder = path.substr(0, path.rfind('/') + 1);
    const auto full = [&](const std::string& name) { return name.starts_with('/') ? name : folder + name; };
    const auto variables = variables_;
    const auto memory = memory_;
    std::vector<bool> deadly;  // by label
    for (const auto& label : configuration.labels) {
        variables_ = variables;
        dead_ = false;
        memory_ = memory;
        not_loaded_.clear();
        MenuEntry entry;
        const auto retrieve = [&](const std::string& file, std::string_view to, const char* what) {
            const auto address = number_of(value(to));
            if (address && load(volume, full(file), *address)) return true;
            const auto missing = address ? not_loaded_.find(*address) : not_loaded_.end();
            Finding why = missing != not_loaded_.end()
                              ? missing->second.why
                              : make_finding(Code::UbootCommandsEnd,
                                             fmt::format("{} is loaded to no address: {} is not set", file, to));
            why.evidence = {evidence_line(label.place, label.line, {}, file)};
            why.symptom = fmt::format("** File not found {} **\nSkipping {} for failure retrieving {}", full(file),
                                      label.name, what);
            refuse(entry, std::move(why));
            return false;
        };
        line_ = label.line;
        set("bootargs", with_variables(label.arguments));
        bool there = true;
        BootWords words;
        const std::string kernel_at = value("kernel_addr_r");
        if (label.local || label.kernel.empty()) {
            refuse(entry, make_finding(Code::EntryLoadsNothing, fmt::format("the label {} names no kernel", label.name),
                                       {evidence_line(label.place, label.line)},
                                       fmt::format("No kernel given, skipping {}", label.name)));
            there = false;
        }
        if (there && !label.ramdisk.empty()) {
            there = retrieve(label.ramdisk, "ramdisk_addr_r", "initrd");
            words.ramdisk = fmt::format("{}:{}", value("ramdisk_addr_r"), value("filesize"));
        }
        there = there && retrieve(label.kernel, "kernel_addr_r", "kernel");
        std::string tree;
        if (there && !value("fdt_addr_r").empty()) {
            if (!label.tree.empty()) {
                there = retrieve(label.tree, "fdt_addr_r", "FDT");
                tree = value("fdt_addr_r");
            } else if (!label.tree_folder.empty() && !value("fdtfile").empty()) {
                const auto address = number_of(value("fdt_addr_r"));
                const std::string file =
                    label.tree_folder + (label.tree_folder.ends_with('/') ? "" : "/") + value("fdtfile");
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
            entry = prepare(words);
        } else {
            entry.kind = EntryKind::Linux;
            entry.started_by = KernelEntry::Board;
            entry.arguments = with_variables(value("bootargs"));
            FileReference kernel = refer(*volume, label.kernel, full(label.kernel), label.line);
            entry.kernel = {std::move(kernel)};
        }
        for (auto* list : {&entry.kernel, &entry.ramdisks, &entry.devicetree})
            for (auto& file : *list) file.line = label.line;
        entry.title = label.title.empty() ? label.name : label.title;
        entry.id = label.name;
        entry.place = label.place;
        entry.line = label.line;
        entry.index = static_cast<int>(menu.entries.size());
        entry.path = {entry.index};
        menu.entries.push_back(std::move(entry));
        deadly.push_back(dead_);
    }
    dead_ = false;
    variables_ = variables;
    memory_ = memory;
    if (menu.entries.empty()) {
        trouble(Code::UbootNothingFound, fmt::format("{} has no label", place),
                {evidence_place(place, "a label", "none")}, "(the prompt =>, without a message)");
        return 1;
    }
    const auto chosen = std::ranges::find(menu.entries, configuration.chosen, &MenuEntry::id);
    // One that is named and not there: the first, without a message.
    menu.default_matches = configuration.chosen.empty() || chosen != menu.entries.end();
    menu.default_entry = chosen != menu.entries.end() ? static_cast<int>(chosen - menu.entries.begin()) : 0;
    std::vector<int> order = {menu.default_entry};
    for (int i = 0; i < static_cast<int>(menu.entries.size()); ++i)
        if (i != menu.default_entry) order.push_back(i);
    // Up to the first that does not come back.
    const auto last = std::ranges::find_if(order, [&](int i) {
        return deadly[static_cast<std::size_t>(i)] || menu.entries[static_cast<std::size_t>(i)].kernel_loaded;
    });
    if (last != order.end() && menu.entries[static_cast<std::size_t>(*last)].kernel_loaded) {
        menu.fallback.assign(order.begin() + 1, order.end());
        started_ = std::move(menu);
        return 0;
    }
    dead_ = last != order.end();
    if (dead_) order.erase(last + 1, order.end());
    menu.fallback.assign(order.begin() + 1, order.end());
    const Finding why = *menu.entries[static_cast<std::size_t>(order.front())].stop;
    trouble(why.code, why.text, why.evidence, why.symptom, std::move(menu));
    return 1;
}

}  // namespace herberge::loader::uboot
