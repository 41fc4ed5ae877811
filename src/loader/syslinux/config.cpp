// SPDX-License-Identifier: MIT
// Where the configuration is looked for (core/fs/lib/loadconfig.c), what its lines mean
// (com32/elflink/ldlinux/readconfig.c) and how an entry is started (…/execute.c, kernel.c) in SYSLINUX 6.04.
#include "loader/syslinux/config.hpp"
#include "loader/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <cctype>
#include <charconv>

#include <herberge/artifact.hpp>

namespace herberge::loader::syslinux {

namespace {

constexpr int most_include_depth = 16;
constexpr int most_menu_depth = 4;
constexpr std::size_t most_labels = 1000;
constexpr std::size_t most_lines = 20000;
constexpr std::string_view prompt = "boot:";
constexpr std::string_view silent = "(nothing is said of it)";  // as it is really started

struct Label {
    std::string name, title, type, kernel, append, initrd, place;
    int line = 0, kernel_line = 0, initrd_line = 0;
    bool has_append = false, is_default = false, hidden = false;
};

struct Settings {
    std::vector<Label> labels;
    std::string append, default_command, ui, on_timeout, title;
    int default_line = 0, ui_line = 0;
    int timeout = 0, total_timeout = 0;  ///< tenths of a second
    bool prompt = false, implicit = true, menu_hidden = false, no_escape = false;
    std::vector<LoaderMessage> said;
    std::vector<std::string> files;  ///< read so far
};

/// Splits off the first word.
std::string_view word(std::string_view& rest) {
    rest = trim(rest);
    std::size_t end = 0;
    while (end < rest.size() && static_cast<unsigned char>(rest[end]) > ' ') ++end;
    const auto out = rest.substr(0, end);
    rest = trim(rest.substr(end));
    return out;
}

int number(std::string_view text) {
    text = trim(text);
    int base = 10;
    bool negative = false;
    if (text.starts_with('-')) {
        negative = true;
        text.remove_prefix(1);
    }
    if (text.starts_with("0x")) {
        base = 16;
        text.remove_prefix(2);
    }
    int value = 0;
    std::from_chars(text.data(), text.data() + text.size(), value, base);
    return negative ? -value : value;
}

std::string absolute(std::string_view directory, std::string_view path) {
    if (path.starts_with("::")) path.remove_prefix(2);
    if (path.starts_with('/')) return std::string(path);
    return fmt::format("{}/{}", directory == "/" ? "" : directory, path);
}

bool ends_without_case(std::string_view text, std::string_view ending) { return lower_text(text).ends_with(ending); }

std::string without_hotkey(std::string_view text) {
    std::string out(text);
    std::erase(out, '^');
    return out;
}

class Parser {
public:
    Parser(const Volume& volume, std::string directory) : volume_(volume), directory_(std::move(directory)) {}

    Settings settings;

    std::optional<Error> lost;  ///< of a configuration that the medium does not give
    std::string circle;         ///< a file that includes itself, be it through others; empty: none

    /// False: no such file.
    bool file(const std::string& path, int depth = 0) {
        // Nothing counts them there (com32/elflink/ldlinux/readconfig.c): a circle is followed until the stack is full.
        if (std::ranges::count(open_, path) != 0) {
            circle = path;
            return true;
        }
        if (depth > most_include_depth || std::ranges::count(settings.files, path) > 1) return true;
        const auto reference = refer(volume_, path, path, 0);
        const auto source = open_file(reference);
        const auto text = source ? source->text(std::uint64_t{1} << 20U) : fail(ErrorKind::NotFound, "no file");
        if (!text && !lost && (reference.unreadable() || text.error().unreadable()))
            lost = reference.unreadable()
                       ? Error{ErrorKind::Unreadable, reference.error.value_or(""), reference.place, {}, {}}
                       : text.error();
        if (!text) return false;
        settings.files.push_back(path);
        open_.push_back(path);
        place_ = fmt::format("{}:{}", volume_.place, path);
        std::string_view rest(*text);
        int line = 0;
        while (!rest.empty() && ++lines_ < most_lines) {
            const auto end = std::min(rest.find('\n'), rest.size());
            ++line;
            parse(trim(rest.substr(0, end)), line, depth);
            rest.remove_prefix(std::min(end + 1, rest.size()));
        }
        open_.pop_back();
        return true;
    }

private:
    void parse(std::string_view text, int line, int depth) {
        if (help_text_) {
            if (lower_text(text).starts_with("endtext")) help_text_ = false;
            return;
        }
        if (text.empty() || text.front() == '#') return;
        auto rest = text;
        const std::string key = lower_text(word(rest));
        const bool in_label = !settings.labels.empty();
        if (key == "menu") menu(rest, depth);
        else if (key == "text") help_text_ = lower_text(rest).starts_with("help");
        else if (key == "include") {
            const std::string before = place_;
            file(absolute(directory_, rest), depth + 1);
            place_ = before;
        } else if (key == "label" && settings.labels.size() < most_labels) {
            Label label;
            label.name = std::string(word(rest));
            label.place = place_;
            label.line = line;
            settings.labels.push_back(std::move(label));
        } else if (key == "append") {
            if (!in_label) settings.append = std::string(rest);
            else {
                settings.labels.back().append = rest == "-" ? std::string{} : std::string(rest);
                settings.labels.back().has_append = true;
            }
        } else if (key == "initrd") {
            // Above the labels it is for none of them (really started).
            if (!in_label) return;
            settings.labels.back().initrd = std::string(rest);
            settings.labels.back().initrd_line = line;
        } else if (key == "default") {
            settings.default_command = std::string(rest);
            settings.default_line = line;
        } else if (key == "ui") {
            settings.ui = std::string(rest);
            settings.ui_line = line;
        } else if (key == "timeout") {
            settings.timeout = number(rest);
        } else if (key == "totaltimeout") {
            settings.total_timeout = number(rest);
        } else if (key == "ontimeout") {
            settings.on_timeout = std::string(rest);
        } else if (key == "prompt") {
            settings.prompt = number(rest) != 0;
        } else if (key == "implicit") {
            settings.implicit = number(rest) != 0;
        } else if (key == "noescape") {
            settings.no_escape = number(rest) != 0;
        } else if (key == "say") {
            settings.said.push_back({std::string(rest), place_, line});
        } else if (in_label) {
            static constexpr std::string_view types[] = {"kernel",  "linux",   "boot",  "bss",    "pxe",
                                                         "fdimage", "comboot", "com32", "config", "localboot"};
            if (std::ranges::find(types, key) == std::end(types)) return;
            auto& label = settings.labels.back();
            label.type = key;
            label.kernel = std::string(rest);
            label.kernel_line = line;
        }
    }

    void menu(std::string_view rest, int depth) {
        const std::string key = lower_text(word(rest));
        const bool in_label = !settings.labels.empty();
        if (key == "title") settings.title = std::string(rest);
        else if (key == "hidden") settings.menu_hidden = true;
        else if (key == "include") {
            const std::string before = place_;
            file(absolute(directory_, word(rest)), depth + 1);
            place_ = before;
        } else if (key == "label" && in_label) settings.labels.back().title = without_hotkey(rest);
        else if (key == "default" && in_label) settings.labels.back().is_default = true;
        else if (key == "hide" && in_label) settings.labels.back().hidden = true;
    }

    std::vector<std::string> open_;  ///< files that are being read, one within the other
    const Volume& volume_;
    std::string directory_;
    std::string place_;
    bool help_text_ = false;
    std::size_t lines_ = 0;
};

class Starter {
public:
    Starter(const Machine& machine, const Volume& volume, std::string directory, const Settings& settings, int depth)
        : machine_(machine), volume_(volume), directory_(std::move(directory)), settings_(settings), depth_(depth) {}

    MenuEntry label(const Label& label, int index) {
        MenuEntry entry;
        entry.title = label.title.empty() ? label.name : label.title;
        entry.id = label.name;
        entry.place = label.place;
        entry.line = label.line;
        entry.index = index;
        entry.path = {index};
        const std::string append = label.has_append ? label.append : settings_.append;
        start(entry, label.type.empty() ? "kernel" : label.type, label.type.empty() ? label.name : label.kernel, append,
              label.initrd, label.kernel_line, label.initrd_line);
        return entry;
    }

    /// A default that names no label is taken as the name of a file.
    MenuEntry implicit(std::string_view command, const std::string& place, int line) {
        MenuEntry entry;
        entry.title = std::string(command);
        entry.place = place;
        entry.line = line;
        auto rest = command;
        const std::string kernel(word(rest));
        start(entry, "kernel", kernel,
              settings_.append.empty() ? std::string(rest) : settings_.append + " " + std::string(rest), {}, line,
              line);
        return entry;
    }

private:
    void start(MenuEntry& entry, std::string type, const std::string& kernel, const std::string& append,
               const std::string& initrd, int line, int initrd_line) {
        if (type == "kernel") {
            if (ends_without_case(kernel, ".c32")) type = "com32";
            else if (ends_without_case(kernel, ".bs") || ends_without_case(kernel, ".bin") ||
                     ends_without_case(kernel, ".bss"))
                type = "boot";
        }
        // What it knows by name and has no program for is started as a kernel (really started: a kernel called .img).
        if (type == "fdimage" || type == "comboot") type = "linux";
        if (type == "kernel" || type == "linux") linux(entry, kernel, append, initrd, line, initrd_line);
        else if (type == "com32") module(entry, kernel, append, line);
        else if (type == "boot" || type == "bss") sector(entry, kernel, line);
        else if (type == "localboot") local(entry, number(kernel));
        else if (type == "config") submenu(entry, kernel);
        else entry.kind = EntryKind::Nothing;
    }

    void linux(MenuEntry& entry, const std::string& kernel, const std::string& append, const std::string& initrd,
               int line, int initrd_line) {
        entry.kind = EntryKind::Linux;
        entry.started_by = KernelEntry::RealMode;
        entry.arguments = append;
        auto file = refer(volume_, kernel, absolute(directory_, kernel), line);
        auto say = [&](std::string text) { entry.messages.push_back({std::move(text), entry.place, line}); };
        // "quiet" on the kernel's command line silences the loader as well, but for failures.
        quiet_ = false;
        for (std::string_view rest(append); !rest.empty();) quiet_ = word(rest) == "quiet" || quiet_;
        const std::string loading = fmt::format("Loading {}{} ", kernel, quiet_ ? "" : "...");
        const std::string loaded = quiet_ ? std::string() : loading + "ok\n";
        const auto source = open_file(file);
        entry.kernel = {file};
        if (!file.found()) {
            say(loading + "failed: No such file or directory");
            stop_without(entry, file, no_kernel,
                         fmt::format("the kernel {} cannot be opened: {}", kernel, *file.error));
            return;
        }
        if (!source || has_holes(file)) {
            say(loading + "failed: I/O error");
            stop(entry, source ? Code::KernelHasHoles : Code::KernelUnreadable,
                 source ? fmt::format("{} is stored with holes, which this loader cannot read", file.place)
                        : fmt::format("{} cannot be read by this loader", file.place));
            return;
        }
        std::string files = initrd;
        ramdisks_of_command_line(append, files);
        if (!files.empty()) ramdisks(entry, files, initrd_line != 0 ? initrd_line : line, loaded);
        if (entry.stop) return;
        if (const auto why = refuse_linux(*source, 255)) {
            // What the disk does not give is told by its number, and left as it is in memory (core/fs/diskio_bios.c).
            say((why->unreadable() ? loading + syslinux_disk_errors(why->byte) + "ok\n" : loaded) +
                "Booting kernel failed: Invalid argument");
            stop(entry, why->unreadable() ? Code::KernelUnreadable : Code::KernelRefusedByLoader,
                 why->unreadable() ? fmt::format("{} cannot be read: {}", file.place, why->what)
                                   : fmt::format("the loader refuses {}: {}", file.place, why->what));
            return;
        }
        entry.kernel_loaded = true;
    }

    /// initrd= on the command line stands for the keyword INITRD.
    static void ramdisks_of_command_line(std::string_view append, std::string& files) {
        while (!append.empty()) {
            const auto w = word(append);
            if (w.starts_with("initrd=")) files = std::string(w.substr(7));
        }
    }

    void ramdisks(MenuEntry& entry, std::string_view files, int line, const std::string& before) {
        while (!files.empty()) {
            const auto comma = std::min(files.find(','), files.size());
            const std::string name(trim(files.substr(0, comma)));
            files.remove_prefix(std::min(comma + 1, files.size()));
            if (name.empty()) continue;
            auto file = refer(volume_, name, absolute(directory_, name), line);
            const bool there = file.found();
            const auto source = there ? open_file(file) : nullptr;
            const bool readable = source && !has_holes(file);
            // On ext its library gives up a file of no bytes; on FAT it goes on with it (both really started, 6.04).
            const bool refused = readable && source->size() == 0 && volume_.info.is(Family::Ext);
            const std::string why = !there ? "No such file or directory" : refused ? "Bad file number" : "I/O error";
            if (there && (!readable || refused)) file.miss(Lack::Absent, why);
            entry.ramdisks.push_back(file);
            if (readable && !refused) continue;
            entry.messages.push_back(
                {fmt::format("{}Loading {}{}failed: {}", before, name, quiet_ ? " " : "...", why), entry.place, line});
            stop_without(
                entry, file, no_ramdisk,
                fmt::format("the RAM disk {} cannot be loaded ({}), and the loader then does not start the kernel",
                            name, why));
            return;
        }
    }

    void module(MenuEntry& entry, const std::string& name, std::string_view append, int line) {
        auto file = refer(volume_, name, absolute(directory_, name), line);
        if (!file.found()) {
            entry.kind = EntryKind::Nothing;
            entry.messages.push_back({fmt::format("Failed to load COM32 file {}", name), entry.place, line});
            stop(entry, Code::EntryLoadsNothing, fmt::format("the module {} is not there", name));
            return;
        }
        const std::string base = lower_text(file.real_path.substr(file.real_path.rfind('/') + 1));
        if (base == "chain.c32") chain(entry, append);
        else if (base == "menu.c32" || base == "vesamenu.c32") submenu(entry, std::string(word(append)));
        else entry.kind = EntryKind::Nothing;
    }

    /// "hd0 2", "hd1", "boot 1", "mbr:0x1234abcd 2", "label=NAME", "fs" (com32/chain/options.c).
    void chain(MenuEntry& entry, std::string_view append) {
        entry.kind = EntryKind::Chainload;
        auto rest = append;
        std::string target(word(rest));
        int partition = 0;
        if (const auto comma = target.find(','); comma != std::string::npos) {
            partition = number(std::string_view(target).substr(comma + 1));
            target.resize(comma);
        } else if (!rest.empty() && std::isdigit(static_cast<unsigned char>(rest.front())) != 0) {
            partition = number(word(rest));
        }
        const Disk* disk = nullptr;
        if (target.starts_with("hd")) disk = machine_.drive(number(std::string_view(target).substr(2)), volume_.disk);
        else if (target.starts_with("boot")) disk = machine_.disk(volume_.disk);
        else if (target.starts_with("mbr:") || target.starts_with("mbr=")) {
            std::uint32_t wanted = 0;
            std::string_view digits = std::string_view(target).substr(4);
            if (digits.starts_with("0x")) digits.remove_prefix(2);
            std::from_chars(digits.data(), digits.data() + digits.size(), wanted, 16);
            for (const auto& d : machine_.disks)
                if (d.table.disk_signature == wanted) disk = &d;
        } else if (target == "fs") {
            disk = machine_.disk(volume_.disk);
            partition = volume_.partition;
        } else if (target.starts_with("label=")) {
            const std::string label = target.substr(6);
            machine_.each_volume([&](const Volume& v) {
                if (v.info.label != label) return;
                disk = machine_.disk(v.disk);
                partition = v.partition;
            });
        }
        VolumeRef volume = disk != nullptr && partition != 0 ? machine_.volume(disk->number, partition) : nullptr;
        if (disk == nullptr || (partition != 0 && volume == nullptr)) {
            entry.messages.push_back({"Unable to find requested disk or partition", entry.place, entry.line});
            stop(entry, Code::EntryDeviceMissing, fmt::format("chain.c32 finds nothing for {}", append));
            return;
        }
        if (volume == nullptr) chain_to(entry, disk->source);
        else chain_to(entry, volume->source);
    }

    void chain_to(MenuEntry& entry, const Source& code) {
        entry.kind = EntryKind::Chainload;
        entry.chain = first_sector_of(code);
        entry.kernel_loaded = true;
    }

    /// LOCALBOOT: -1 hands back to the firmware, 0x80 and up start that drive's first sector.
    void local(MenuEntry& entry, int device) {
        entry.kind = EntryKind::Nothing;
        const Disk* disk = device >= 0x80 ? machine_.drive(device - 0x80, volume_.disk) : nullptr;
        if (disk != nullptr) chain_to(entry, disk->source);
    }

    void sector(MenuEntry& entry, const std::string& name, int line) {
        entry.kind = EntryKind::Chainload;
        auto file = refer(volume_, name, absolute(directory_, name), line);
        entry.kernel = {file};
        if (!file.found()) {
            entry.messages.push_back({std::string(silent), entry.place, line});
            stop_without(
                entry, file, no_kernel,
                fmt::format("the boot sector file {} {}", name, file.unreadable() ? "cannot be read" : "is not there"));
            return;
        }
        entry.chain = ChainTarget{volume_.place, {}};
        if (const auto ranges = ranges_of(volume_, file.file); !ranges.empty()) entry.chain->code = ranges.front();
        entry.kernel_loaded = true;
    }

    /// "FILE" or "FILE FOLDER": the folder is where names without a stroke are looked for from then on.
    void submenu(MenuEntry& entry, std::string_view what) {
        entry.kind = EntryKind::Submenu;
        if (depth_ >= most_menu_depth) return;
        LoaderRun ignored;
        const std::string file = absolute(directory_, word(what));
        const auto folder = word(what);
        auto menu = read_config(machine_, volume_, file, ignored, depth_ + 1,
                                folder.empty() ? directory_ : absolute(directory_, folder));
        for (auto& child : menu.entries) child.path.insert(child.path.begin(), entry.path.begin(), entry.path.end());
        entry.children = std::move(menu.entries);
        entry.default_child = menu.default_entry;
    }

    const Machine& machine_;
    const Volume& volume_;
    std::string directory_;
    const Settings& settings_;
    int depth_;
    bool quiet_ = false;
};

int find_label(const Settings& settings, std::string_view name) {
    const auto found = std::ranges::find_if(settings.labels, [&](const Label& l) { return l.name == name; });
    return found != settings.labels.end() ? static_cast<int>(found - settings.labels.begin()) : -1;
}

/// Tenths of a second after which it goes on by itself; 0: it does not.
int time_of(const Settings& settings) {
    if (settings.timeout <= 0 || settings.total_timeout <= 0) return std::max(settings.timeout, settings.total_timeout);
    return std::min(settings.timeout, settings.total_timeout);
}

void timing(const Settings& settings, bool with_menu, Menu& menu) {
    if (const int tenths = time_of(settings); tenths > 0) menu.timeout = (tenths + 9) / 10;
    if (with_menu) {
        menu.style = settings.menu_hidden ? MenuStyle::Hidden : MenuStyle::Menu;
        menu.reveal = settings.menu_hidden ? "any key" : "";
        return;
    }
    menu.style = MenuStyle::Hidden;
    menu.reveal = settings.no_escape ? "" : "Shift or Alt held down";
    if (!settings.prompt) menu.timeout = 0;
}

}  // namespace

Menu read_config(const Machine& machine, const Volume& volume, const std::string& path, LoaderRun& out, int depth,
                 std::string directory) {
    Menu menu;
    menu.loader = "SYSLINUX";
    menu.goes_on_at_losses = true;
    menu.place = fmt::format("{}:{}", volume.place, path);
    menu.after_error = prompt;
    if (directory.empty()) directory = path.substr(0, std::max<std::size_t>(path.rfind('/'), 1));
    Parser parser(volume, directory);
    parser.file(path);
    const Settings& settings = parser.settings;
    menu.messages = settings.said;
    Starter starter(machine, volume, directory, settings, depth);
    for (std::size_t i = 0; i < settings.labels.size(); ++i)
        menu.entries.push_back(starter.label(settings.labels[i], static_cast<int>(i)));
    const bool has_prompt = settings.prompt && settings.ui.empty() && time_of(settings) > 0;
    const std::string command =
        has_prompt && !settings.on_timeout.empty() ? settings.on_timeout : settings.default_command;
    std::string_view rest(command);
    const std::string first(word(rest));
    const bool old_style_ui = settings.ui.empty() && ends_without_case(first, ".c32");
    const std::string ui = old_style_ui ? first : std::string(trim(settings.ui));
    menu.default_setting = settings.default_command;
    timing(settings, !ui.empty(), menu);
    if (!parser.circle.empty()) {
        const std::string place = fmt::format("{}:{}", volume.place, parser.circle);
        stop(out, Code::SyslinuxIncludeCircle, fmt::format("the configuration {} includes itself", place),
             {evidence_place(place, "files that come to an end", "INCLUDE in a circle")}, "(nothing more is shown)");
        return menu;
    }
    if (!ui.empty()) {
        std::string_view ui_rest(ui);
        const std::string module(word(ui_rest));
        const auto file = refer(volume, module, absolute(directory, module), settings.ui_line);
        if (!file.found()) {
            stop(out, Code::SyslinuxMenuModuleMissing,
                 fmt::format("the menu module {} is not there: the loader falls back to its prompt", file.place),
                 {evidence_line(menu.place, old_style_ui ? settings.default_line : settings.ui_line, module, "absent")},
                 fmt::format("Failed to load COM32 file {}\n{}", module, prompt));
            return menu;
        }
        const auto marked = std::ranges::find_if(settings.labels, [](const Label& l) { return l.is_default; });
        const int by_name = find_label(settings, first);
        menu.default_entry =
            marked != settings.labels.end() ? static_cast<int>(marked - settings.labels.begin()) : std::max(by_name, 0);
        // Another command may be for when the time is over (com32/menu/menumain.c).
        std::string_view later(settings.on_timeout);
        if (const int index = find_label(settings, word(later)); time_of(settings) > 0 && index >= 0)
            menu.default_entry = index;
        menu.default_matches = old_style_ui || first.empty() || by_name >= 0;
        if (menu.entries.empty())
            stop(out, Code::SyslinuxConfigEmpty, "the configuration defines no label",
                 {evidence_place(menu.place, "a LABEL", "none")}, "");
        return menu;
    }
    if (first.empty() && parser.lost) {
        stop(out, Code::ConfigurationUnreadable,
             fmt::format("the configuration {} cannot be read: {}", menu.place, parser.lost->what),
             {evidence_error(*parser.lost)}, "");
        return menu;
    }
    if (first.empty()) {
        stop(out, Code::SyslinuxNoDefault,
             "the configuration has neither DEFAULT nor UI: the loader waits at its prompt",
             {evidence_place(menu.place, "a line DEFAULT or UI", "none")},
             fmt::format("No DEFAULT or UI configuration directive found!\n{}", prompt));
        return menu;
    }
    const int index = find_label(settings, first);
    if (index >= 0) {
        menu.default_entry = index;
        if (!rest.empty() && menu.entries[static_cast<std::size_t>(index)].kind == EntryKind::Linux)
            menu.entries[static_cast<std::size_t>(index)].arguments += " " + std::string(rest);
        return menu;
    }
    auto entry = starter.implicit(command, menu.place, settings.default_line);
    menu.default_matches = false;
    if (!settings.implicit || !entry.kernel_loaded) {
        const std::string screen = entry.messages.empty() ? std::string(silent) : entry.messages.front().text;
        std::vector<std::string> names;
        for (const auto& label : settings.labels) names.push_back(label.name);
        stop(out, Code::SyslinuxDefaultUnknown,
             fmt::format("DEFAULT {} names neither a label nor a file that could be started", first),
             {evidence_line(menu.place, settings.default_line,
                            names.empty() ? "a label" : fmt::format("one of {}", fmt::join(names, ", ")), first)},
             fmt::format("{}\n{}", screen, prompt));
        return menu;
    }
    entry.index = static_cast<int>(menu.entries.size());
    entry.path = {entry.index};
    menu.default_entry = entry.index;
    menu.entries.push_back(std::move(entry));
    return menu;
}

namespace {

void look_for_menu(const Machine& machine, const Volume& volume, const std::vector<std::string>& directories,
                   const std::vector<std::string>& names, const std::string& banner, LoaderRun& out) {
    std::optional<FileReference> unreadable;
    for (const auto& where : directories)
        for (const auto& name : names) {
            const std::string path = absolute(where, name);
            const auto file = refer(volume, name, path, 0);
            if (file.unreadable() && !unreadable) unreadable = file;
            if (!file.found()) continue;
            if (!open_file(file)) continue;
            out.proof = ranges_of(volume, file.file);
            out.menu = read_config(machine, volume, path, out);
            if (out.stopped_by() != nullptr) {
                auto& screen = out.stop->findings.front().symptom;
                screen.insert(0, "\n").insert(0, banner);
            }
            out.configuration_text = fmt::format("{} gives {} entr{}", out.menu.place, out.menu.entries.size(),
                                                 out.menu.entries.size() == 1 ? "y" : "ies");
            return;
        }
    out.menu.loader = "SYSLINUX";
    out.menu.place = fmt::format("{}:{}", volume.place, absolute(directories.front(), names.back()));
    const std::string wanted = fmt::format("{}", fmt::join(names, " or "));
    if (unreadable) {
        stop(out, Code::ConfigurationUnreadable,
             fmt::format("whether {} is there cannot be read, and no other configuration is found", unreadable->place),
             {evidence_place(unreadable->place, "readable sectors", *unreadable->error)},
             fmt::format("{}\nWARNING: No configuration file found\n{}", banner, prompt));
        return;
    }
    stop(out, Code::SyslinuxConfigMissing,
         fmt::format("no configuration is found: neither {} nor {} lies in {}", names.front(), names.back(),
                     fmt::join(directories, ", ")),
         {evidence_place(fmt::format("{}:{}", volume.place, directories.front()), wanted, "neither")},
         fmt::format("{}\nWARNING: No configuration file found\n{}", banner, prompt));
}

}  // namespace

void read_menu(const Machine& machine, const Volume& volume, const std::string& directory, const std::string& banner,
               LoaderRun& out) {
    std::vector<std::string> directories{directory};
    for (const char* usual : {"/boot/syslinux", "/syslinux", "/"})
        if (std::ranges::find(directories, usual) == directories.end()) directories.emplace_back(usual);
    look_for_menu(machine, volume, directories, {"extlinux.conf", "syslinux.cfg"}, banner, out);
}

void read_disc_menu(const Machine& machine, const Volume& volume, const std::string& banner, LoaderRun& out) {
    look_for_menu(machine, volume, {"/boot/isolinux", "/isolinux", "/boot/syslinux", "/syslinux", "/"},
                  {"isolinux.cfg", "syslinux.cfg"}, banner, out);
    out.menu.loader = "ISOLINUX";
    out.menu.goes_on_at_losses = false;  // it reads a disc in another way, which was not seen to fail
}

std::vector<Menu> configurations(const Machine& machine, const Volume& volume) {
    std::vector<Menu> out;
    for (const char* path : {"/boot/isolinux/isolinux.cfg", "/isolinux/isolinux.cfg", "/boot/extlinux/extlinux.conf",
                             "/extlinux/extlinux.conf", "/boot/syslinux/syslinux.cfg", "/syslinux/syslinux.cfg",
                             "/syslinux.cfg", "/extlinux.conf", "/boot/extlinux.conf"}) {
        if (!refer(volume, path, path, 0).found()) continue;
        LoaderRun ignored;
        out.push_back(read_config(machine, volume, path, ignored));
    }
    return out;
}

}  // namespace herberge::loader::syslinux
