// SPDX-License-Identifier: MIT
// menu.lst as stage2/stage2.c (run_script, cmain) and stage2/builtins.c of 0.97 read it.
#include "loader/legacy/menu.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include "bytes/lost.hpp"

namespace herberge::loader::legacy {

namespace {

constexpr unsigned most_setup_sectors = 64;  // LINUX_MAX_SETUP_SECTS
constexpr std::size_t most_entries = 1000;
constexpr int most_depth = 3;

struct Line {
    std::string text;
    int number = 0;
};

struct Script {
    std::string title;
    int line = 0;
    std::vector<Line> lines;
};

std::string_view trim(std::string_view text) {
    while (!text.empty() && (text.front() == ' ' || text.front() == '\t')) text.remove_prefix(1);
    while (!text.empty() && static_cast<unsigned char>(text.back()) <= ' ') text.remove_suffix(1);
    return text;
}

/// Splits off a command's name: a space, a tab or an equals sign ends it (skip_to).
std::string_view command_of(std::string_view& rest) {
    std::size_t end = 0;
    while (end < rest.size() && rest[end] != ' ' && rest[end] != '\t' && rest[end] != '=') ++end;
    const auto name = rest.substr(0, end);
    while (end < rest.size() && (rest[end] == ' ' || rest[end] == '\t' || rest[end] == '=')) ++end;
    rest.remove_prefix(end);
    return name;
}

std::string_view word(std::string_view& rest) {
    rest = trim(rest);
    const auto end = std::min(rest.find_first_of(" \t"), rest.size());
    const auto out = rest.substr(0, end);
    rest = trim(rest.substr(end));
    return out;
}

std::optional<int> number(std::string_view text) {
    int base = 10;
    if (text.starts_with("0x")) {
        base = 16;
        text.remove_prefix(2);
    }
    int value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
    if (error != std::errc{} || end == text.data()) return std::nullopt;
    return value;
}

/// Commands of 0.97 that change nothing about what is started.
bool harmless(std::string_view name) {
    static constexpr std::string_view names[] = {
        "blocklist",  "boot",     "bootp",      "cat",           "clear",    "cmp",       "color",    "debug",
        "device",     "dhcp",     "displayapm", "displaymem",    "dump",     "embed",     "find",     "fstest",
        "geometry",   "halt",     "help",       "hide",          "ifconfig", "impsprobe", "install",  "ioprobe",
        "makeactive", "map",      "md5crypt",   "modulenounzip", "pager",    "partnew",   "parttype", "pause",
        "quit",       "rarp",     "read",       "reboot",        "serial",   "setkey",    "setup",    "terminal",
        "terminfo",   "testload", "testvbe",    "tftpserver",    "unhide",   "uppermem",  "vbeprobe"};
    return std::ranges::find(names, name) != std::end(names);
}
/// Those that mean something in an entry; and those of the menu alone, which are an error in an entry.
constexpr std::string_view starting[] = {"root",     "rootnoverify", "kernel",     "initrd",
                                         "module",   "chainloader",  "configfile", "lock",
                                         "password", "savedefault",  "title"};
constexpr std::string_view other_types[] = {"netbsd", "freebsd", "openbsd", "linux", "multiboot"};
constexpr std::string_view of_menu_alone[] = {"default", "fallback", "hiddenmenu", "timeout"};
/// What makers of distributions added, of which a build may have some: told by the command's name in its program.
constexpr std::string_view added[] = {"uuid",       "quiet",    "gfxmenu", "splashimage", "foreground",
                                      "background", "viewport", "shade",   "findiso"};

template <std::size_t N>
bool among(std::string_view name, const std::string_view (&names)[N]) {
    return std::ranges::find(names, name) != std::end(names);
}

/// A line whose command the build does not have is skipped when the menu is read (stage2/stage2.c, cmain; really
/// started: a misspelt command above, within and below the others).
bool knows(const Setting& setting, std::string_view name) {
    using namespace std::string_view_literals;
    if (harmless(name) || among(name, starting) || among(name, of_menu_alone)) return true;
    if (!among(name, added)) return false;
    return setting.program.empty() || setting.program.find(std::string(name) + '\0') != std::string_view::npos;
}

struct Place {
    const Disk* disk = nullptr;
    VolumeRef volume;
    bool whole = true;
};

class Runner {
public:
    explicit Runner(const Setting& setting) : setting_(setting) {}

    /// `locked`: the menu has a password.
    MenuEntry run(const Script& script, const std::string& place, int index, bool locked,
                  std::vector<MenuEntry>& submenu) {
        entry_ = MenuEntry{};
        entry_.title = script.title;
        entry_.place = place;
        entry_.line = script.line;
        entry_.index = index;
        entry_.path = {index};
        root_ = {setting_.disk, setting_.volume, setting_.volume == nullptr || setting_.volume->partition == 0};
        for (const auto& line : script.lines) {
            std::string_view rest = line.text;
            const auto name = command_of(rest);
            line_ = line.number;
            entry_.messages.push_back({line.text, place, line.number});
            int error = 0;
            if (name == "root" || name == "rootnoverify") error = set_root(rest);
            else if (name == "uuid") error = set_root_by_uuid(rest);
            else if (name == "kernel") error = kernel(rest);
            else if (name == "initrd") error = initrd(rest);
            else if (name == "module") error = module(rest);
            else if (name == "chainloader") error = chainloader(rest);
            else if (name == "configfile") {
                configfile(rest, submenu);
                return entry_;
            } else if (name == "password") entry_.restricted = true;
            else if (name == "lock") entry_.restricted = entry_.restricted || locked;
            else if (name == "savedefault") error = save_default();
            else if (name == "boot") break;
            else if (among(name, of_menu_alone)) error = of_menu(name);
            if (error != 0) {
                entry_.messages.push_back({error_text(error), place, line.number});
                loader::stop(entry_, Code::EntryLoadsNothing,
                             fmt::format("line {} fails: {}", line.number, error_text(error)));
                name_what_was_meant(script);
                return entry_;
            }
        }
        if (!entry_.kernel_loaded && entry_.kind == EntryKind::Nothing &&
            !std::ranges::any_of(script.lines, [](const Line& l) {
                return l.text.starts_with("reboot") || l.text.starts_with("halt") || l.text.starts_with("quit");
            })) {
            entry_.messages.push_back({error_text(8), place, script.line});
            loader::stop(entry_, Code::EntryLoadsNothing, "the entry loads nothing that could be started");
        }
        return entry_;
    }

private:
    /// The script ends at its first error; which system it was for is told by its kernel line all the same.
    void name_what_was_meant(const Script& script) {
        if (!entry_.kernel.empty() || entry_.kind == EntryKind::Chainload) return;
        for (const auto& line : script.lines) {
            std::string_view rest = line.text;
            if (command_of(rest) != "kernel") continue;
            FileReference file;
            file.written = std::string(word(rest));
            file.line = line.number;
            file.miss(Lack::Absent, "not reached");
            entry_.kind = EntryKind::Linux;
            entry_.kernel = {file};
            entry_.arguments = std::string(rest);
        }
    }

    /// Settings of the menu are no commands of an entry (BUILTIN_CMDLINE is not set; really started).
    int of_menu(std::string_view name) {
        loader::stop(entry_, Code::EntryLoadsNothing,
                     fmt::format("line {}: {} belongs above the entries, and ends an entry", line_, name));
        return 27;
    }

    /// The number is written into a file beside the menu, which must be there (stage2/builtins.c, savedefault_func).
    int save_default() {
        const auto& home = setting_.volume;
        if (setting_.depth != 0 || home == nullptr || plain_view(*home) == nullptr) return 0;
        const auto from = entry_.place.find(':');
        if (from == std::string::npos) return 0;
        std::string path = entry_.place.substr(from + 1);
        path.resize(path.rfind('/') + 1);
        path += "default";
        const auto file = refer(*home, path, path, line_, 8);
        if (file.found() || file.unreadable()) return file.found() ? 0 : 25;
        loader::stop(entry_, Code::EntryLoadsNothing,
                     fmt::format("line {}: savedefault has no file {}:{} to write into", line_, home->place, path));
        return 15;
    }

    /// For a Linux kernel it is the same as initrd (builtins.c, module_func).
    int module(std::string_view rest) {
        if (!entry_.kernel_loaded) return 8;
        return entry_.kind == EntryKind::Linux ? initrd(rest) : 0;
    }

    /// "(hd0,1)" or "(hd0)" at the start of `text`; what follows stays in it. The number is the loader's error.
    int device(std::string_view& text, Place& out) {
        if (!text.starts_with('(')) return 11;
        const auto close = text.find(')');
        if (close == std::string_view::npos) return 11;
        auto name = text.substr(1, close - 1);
        text.remove_prefix(close + 1);
        if (!name.starts_with("hd")) return name.starts_with("fd") || name == "cd" ? 21 : 11;
        name.remove_prefix(2);
        const auto comma = name.find(',');
        const auto drive = number(name.substr(0, comma));
        if (!drive) return 23;
        out.disk = setting_.machine.drive(*drive, setting_.first_drive);
        if (out.disk == nullptr) {
            loader::stop(entry_, Code::EntryDeviceMissing,
                         fmt::format("(hd{}) does not exist: the machine has {} disk{}", *drive,
                                     setting_.machine.disks.size(), setting_.machine.disks.size() == 1 ? "" : "s"));
            return 21;
        }
        out.whole = comma == std::string_view::npos;
        out.volume = nullptr;
        if (out.whole) {
            out.volume = setting_.machine.volume(out.disk->number, 0);
            return 0;
        }
        const auto part = number(name.substr(comma + 1));
        if (!part) return 23;
        // Partitions count from 0 here; logical ones from 4.
        out.volume = setting_.machine.volume(out.disk->number, *part + 1);
        if (out.volume == nullptr || out.disk->table.kind != TableKind::Mbr) {
            out.volume = nullptr;
            std::string near;
            if (*part > 0 && setting_.machine.volume(out.disk->number, *part) != nullptr)
                near = fmt::format("; (hd{},{}) does, which is {} for Linux", *drive, *part - 1, *part);
            loader::stop(entry_, Code::EntryDeviceMissing,
                         fmt::format("(hd{},{}) does not exist{}", *drive, *part, near));
            return 22;
        }
        return 0;
    }

    int set_root(std::string_view rest) {
        Place place = root_;
        if (const int error = device(rest, place); error != 0) return error;
        root_ = place;
        return 0;
    }

    int set_root_by_uuid(std::string_view rest) {
        const auto volume = setting_.machine.by_uuid(word(rest), Observer::Loader);
        if (volume == nullptr) {
            loader::stop(entry_, Code::EntryDeviceMissing, "no volume has the UUID that the entry looks for");
            return 17;
        }
        root_ = {setting_.machine.disk(volume->disk), volume, volume->partition == 0};
        return 0;
    }

    /// A file name, with a device in front or below the root; the number is the loader's error.
    int file(std::string_view name, FileReference& out) {
        Place place = root_;
        const std::string written(name);
        if (name.starts_with('('))
            if (const int error = device(name, place); error != 0) {
                out.written = written;
                out.line = line_;
                out.miss(Lack::Absent, error_text(error));
                return error;
            }
        out.written = written;
        out.line = line_;
        if (!name.starts_with('/')) {
            out.miss(Lack::Absent, error_text(1));
            return 1;
        }
        if (place.volume == nullptr || plain_view(*place.volume) == nullptr) {
            out.miss(Lack::Absent, error_text(17));
            return 17;
        }
        out = refer(*place.volume, written, name, line_, 8);
        if (out.found()) return 0;
        const int error = out.unreadable()                     ? 25
                          : *out.error == "File not found"     ? 15
                          : *out.error == "not a regular file" ? 2
                                                               : 16;
        out.error = error_text(error);
        return error;
    }

    int kernel(std::string_view rest) {
        entry_.kind = EntryKind::Linux;
        entry_.started_by = KernelEntry::RealMode;
        entry_.kernel_loaded = false;
        std::string_view name = word(rest), type;
        while (name.starts_with("--")) {
            if (name.starts_with("--type=")) type = name.substr(7);
            name = word(rest);
        }
        FileReference reference;
        const int error = file(name, reference);
        entry_.arguments = std::string(rest);
        entry_.kernel = {reference};
        if (error != 0) {
            loader::stop_without(entry_, reference, loader::no_kernel,
                                 fmt::format("the kernel {} cannot be opened: {}", name, error_text(error)));
            return error;
        }
        const auto source = open_file(reference);
        if (!source) {
            loader::stop(entry_, Code::KernelUnreadable, fmt::format("the kernel {} cannot be read", name));
            return 25;
        }
        if (const auto lost = lost_within(*source)) {
            loader::stop(entry_, Code::KernelUnreadable,
                         fmt::format("the kernel {} cannot be read: {}", name, lost->what));
            return error_of_loss(reference, *source);
        }
        if (const auto why = refuse_linux(*source, most_setup_sectors)) {
            loader::stop(entry_, Code::KernelRefusedByLoader,
                         fmt::format("the loader refuses the kernel {}: {}", name, why->what));
            return 13;
        }
        if (among(type, other_types)) {
            loader::stop(entry_, Code::KernelRefusedByLoader,
                         fmt::format("the loader refuses the kernel {}: it is said to be of the type {}, and is a big "
                                     "one of Linux",
                                     name, type));
            return 13;
        }
        entry_.kernel_loaded = true;
        return 0;
    }

    /// What a file ends with that the medium does not give all of. On ext, once a reading failed, the next block of its
    /// lists of blocks is taken for a mistake of the file system (stage2/fsys_ext2fs.c; really started).
    static int error_of_loss(const FileReference& file, const ByteSource& source) {
        constexpr std::uint64_t looked_at_first = 8192;
        constexpr std::uint64_t least_list = std::uint64_t{256} << 10U;  // bytes that a block of 1024 bytes lists
        const std::uint64_t last_list =
            (source.size() - std::min<std::uint64_t>(source.size(), 1)) / least_list * least_list;
        const bool lists_follow = !lost_within(source, 0, looked_at_first) && !lost_within(source, last_list);
        return file.volume != nullptr && file.volume->info.is(Family::Ext) && lists_follow ? 16 : 25;
    }

    int initrd(std::string_view rest) {
        const auto name = word(rest);
        if (!entry_.kernel_loaded || entry_.kind != EntryKind::Linux) return 19;
        FileReference reference;
        const int error = file(name, reference);
        entry_.ramdisks = {reference};
        if (error != 0)
            loader::stop_without(
                entry_, reference, loader::no_ramdisk,
                fmt::format("the RAM disk {} cannot be opened ({}), and the loader then does not start the kernel",
                            name, error_text(error)));
        if (error != 0) return error;
        const auto source = open_file(reference);
        const auto lost = source != nullptr ? lost_within(*source) : std::nullopt;
        if (!lost) return 0;
        loader::stop(entry_, Code::RamdiskUnreadable,
                     fmt::format("the RAM disk {} cannot be read, and the loader then does not start the kernel: {}",
                                 name, lost->what));
        return error_of_loss(reference, *source);
    }

    int chainloader(std::string_view rest) {
        entry_.kind = EntryKind::Chainload;
        entry_.kernel_loaded = false;
        bool force = false;
        auto name = word(rest);
        while (name.starts_with("--")) {
            force = force || name == "--force";
            name = word(rest);
        }
        Place place = root_;
        if (name.starts_with('('))
            if (const int error = device(name, place); error != 0) return error;
        Source code;
        if (const auto plus = name.find('+'); plus != std::string_view::npos && !name.starts_with('/')) {
            const auto first = static_cast<std::uint64_t>(std::max(0, number(name.substr(0, plus)).value_or(0)));
            if (place.disk == nullptr) return 21;
            const Volume* volume = place.volume.get();
            const Source base = volume != nullptr ? volume->source : place.disk->source;
            code = slice(base, first * 512, 512, base->place());
        } else {
            FileReference reference;
            const int error = file(name, reference);
            entry_.kernel = {reference};
            if (error != 0) {
                loader::stop_without(entry_, reference, loader::no_kernel,
                                     fmt::format("the loader {} cannot be opened: {}", name, error_text(error)));
                return error;
            }
            code = open_file(reference);
        }
        const auto sector = code ? code->bytes(0, 512) : fail(ErrorKind::NotFound, "no code");
        if (!sector) {
            loader::stop(entry_, Code::ChainUnreadable, "the sector to chain to cannot be read");
            return 25;
        }
        entry_.chain = first_sector_of(code);
        if (!force && ((*sector)[510] != 0x55 || (*sector)[511] != 0xAA)) {
            loader::stop(entry_, Code::ChainNoSignature,
                         fmt::format("the boot sector of {} has no signature 55AA", code->place()));
            return 13;
        }
        entry_.kernel_loaded = true;
        return 0;
    }

    void configfile(std::string_view rest, std::vector<MenuEntry>& submenu) {
        FileReference reference;
        const int error = file(word(rest), reference);
        if (error != 0) {
            entry_.messages.push_back({error_text(error), entry_.place, line_});
            loader::stop(entry_, Code::EntryLoadsNothing,
                         fmt::format("the configuration {} cannot be read: {}", reference.written, error_text(error)));
            return;
        }
        const auto source = open_file(reference);
        const auto text = source && setting_.depth < most_depth ? source->text(std::uint64_t{1} << 20U)
                                                                : fail(ErrorKind::TooLarge, "too deep");
        if (!text) return;
        entry_.kind = EntryKind::Submenu;
        const Setting inner{setting_.machine,   setting_.first_drive, root_.disk, reference.volume, 0,
                            setting_.depth + 1, setting_.program};
        if (reference.place == entry_.place) return;
        auto menu = read_menu(inner, *text, reference.place);
        for (auto& child : menu.entries) child.path.insert(child.path.begin(), entry_.path.begin(), entry_.path.end());
        submenu = std::move(menu.entries);
        entry_.default_child = menu.default_entry;
    }

    const Setting& setting_;
    MenuEntry entry_;
    Place root_;
    int line_ = 0;
};

struct Parsed {
    std::vector<Line> top;
    std::vector<Script> scripts;
};

Parsed parse(const Setting& setting, std::string_view text) {
    Parsed out;
    int count = 0;
    std::string held;
    int held_from = 0;
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        auto line = trim(text.substr(0, end));
        text.remove_prefix(std::min(end + 1, text.size()));
        ++count;
        if (held.empty()) held_from = count;
        // A backslash at the end of a line joins it with the next (get_line_from_config).
        if (line.ends_with('\\')) {
            held += std::string(line.substr(0, line.size() - 1));
            continue;
        }
        const std::string whole = held + std::string(line);
        held.clear();
        if (whole.empty() || whole.front() == '#') continue;
        std::string_view rest(whole);
        const auto name = command_of(rest);
        if (!knows(setting, name)) continue;
        if (name == "title") {
            // A title without a command below it is not kept.
            if (!out.scripts.empty() && out.scripts.back().lines.empty()) out.scripts.pop_back();
            if (out.scripts.size() >= most_entries) break;
            out.scripts.push_back({std::string(rest), held_from, {}});
        } else {
            (out.scripts.empty() ? out.top : out.scripts.back().lines).push_back({whole, held_from});
        }
    }
    if (!out.scripts.empty() && out.scripts.back().lines.empty()) out.scripts.pop_back();
    return out;
}

}  // namespace

std::string error_text(int number) {
    switch (number) {
        case 1: return "Error 1: Filename must be either an absolute pathname or blocklist";
        case 2: return "Error 2: Bad file or directory type";
        case 8: return "Error 8: Kernel must be loaded before booting";
        case 11:
            return "Error 11: Unrecognized device string, or you omitted the required DEVICE part which should lead "
                   "the filename.";
        case 13: return "Error 13: Invalid or unsupported executable format";
        case 15: return "Error 15: File not found";
        case 16: return "Error 16: Inconsistent filesystem structure";
        case 17: return "Error 17: Cannot mount selected partition";
        case 19: return "Error 19: Linux kernel must be loaded before initrd";
        case 21: return "Error 21: Selected disk does not exist";
        case 22: return "Error 22: No such partition";
        case 23: return "Error 23: Error while parsing number";
        case 25: return "Error 25: Disk read error";
        case 27: return "Error 27: Unrecognized command";
        default: return fmt::format("Error {}", number);
    }
}

Menu read_menu(const Setting& setting, std::string_view text, std::string place) {
    Menu menu;
    menu.loader = "GRUB Legacy";
    menu.place = std::move(place);
    menu.after_error = "Press any key to continue...";
    const auto parsed = parse(setting, text);
    bool locked = false;
    std::vector<int> fallback;
    bool hidden = false;
    int chosen = 0;
    for (const auto& line : parsed.top) {
        std::string_view rest = line.text;
        const auto name = command_of(rest);
        if (name == "default") {
            menu.default_setting = std::string(trim(rest));
            chosen = menu.default_setting == "saved" ? static_cast<int>(std::min(setting.saved_entry, 10000U))
                                                     : number(rest).value_or(0);
        } else if (name == "timeout") {
            menu.timeout = number(rest);
        } else if (name == "hiddenmenu") {
            hidden = true;
        } else if (name == "password") {
            locked = true;
        } else if (name == "fallback") {
            while (!(rest = trim(rest)).empty())
                if (const auto index = number(word(rest))) fallback.push_back(*index);
        }
    }
    Runner runner(setting);
    for (std::size_t i = 0; i < parsed.scripts.size(); ++i) {
        std::vector<MenuEntry> children;
        auto entry = runner.run(parsed.scripts[i], menu.place, static_cast<int>(i), locked, children);
        entry.children = std::move(children);
        menu.entries.push_back(std::move(entry));
    }
    const auto count = static_cast<int>(menu.entries.size());
    std::erase_if(fallback, [&](int index) { return index < 0 || index >= count; });
    // A default beyond the list is replaced by the first fallback, or by entry 0 (stage2.c, cmain).
    menu.default_matches = chosen >= 0 && chosen < count;
    if (!menu.default_matches) {
        chosen = 0;
        if (!fallback.empty()) {
            chosen = fallback.front();
            fallback.erase(fallback.begin());
        }
    }
    menu.default_entry = chosen;
    menu.fallback = std::move(fallback);
    if (hidden && menu.timeout) {
        menu.style = MenuStyle::Hidden;
        menu.reveal = "Esc";
    }
    return menu;
}

std::vector<Menu> configurations(const Machine& machine, const Volume& volume) {
    std::vector<Menu> out;
    for (const char* path : {"/boot/grub/menu.lst", "/boot/grub/grub.conf", "/grub/menu.lst", "/grub/grub.conf"}) {
        const auto file = refer(volume, path, path, 0);
        const auto source = open_file(file);
        const auto text = source ? source->text(std::uint64_t{1} << 20U) : fail(ErrorKind::NotFound, "none");
        // grub.conf is often a link to menu.lst: one menu.
        if (!text || std::ranges::any_of(out, [&](const Menu& m) {
                return m.place == fmt::format("{}:{}", volume.place, file.real_path);
            }))
            continue;
        out.push_back(read_menu({machine, 1, machine.disk(volume.disk), volume.shared_from_this(), 0, 0, {}}, *text,
                                fmt::format("{}:{}", volume.place, file.real_path)));
    }
    return out;
}

}  // namespace herberge::loader::legacy
