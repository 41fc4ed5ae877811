// SPDX-License-Identifier: MIT
// systemd-boot 252 and the Boot Loader Specification: entry files, unified kernel images, their order and the default
// (src/boot/efi/boot.c).
#include <fmt/format.h>
#include <fnmatch.h>
#include <algorithm>
#include <cctype>
#include <charconv>

#include <herberge/pe.hpp>
#include <herberge/uefi.hpp>

#include "bytes/lost.hpp"
#include "firmware/fat_blocks.hpp"
#include "loader/family.hpp"
#include "loader/text.hpp"
#include "loader/unified_image.hpp"

namespace herberge::loader::systemd_boot {

namespace {

constexpr std::string_view boot_partition_type = "bc13c2ff-59e6-4262-a352-b275fd6f7172";
constexpr std::size_t most_entries = 256;

struct Entry {
    std::string id, title, version, machine_id, sort_key;
    std::optional<int> tries_left;
    MenuEntry entry;
};

/// A digit-aware comparison as strverscmp_improved: higher versions are greater.
int compare_versions(std::string_view a, std::string_view b) {
    auto digit = [](char c) { return c >= '0' && c <= '9'; };
    auto letter = [](char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0; };
    auto valid = [&](char c) { return digit(c) || letter(c) || c == '~' || c == '-' || c == '^' || c == '.'; };
    while (true) {
        while (!a.empty() && !valid(a.front())) a.remove_prefix(1);
        while (!b.empty() && !valid(b.front())) b.remove_prefix(1);
        for (const char mark : {'~', '-', '^', '.'}) {
            const bool x = !a.empty() && a.front() == mark;
            const bool y = !b.empty() && b.front() == mark;
            if (mark == '~' && (x || y)) {
                if (x != y) return x ? -1 : 1;
                a.remove_prefix(1);
                b.remove_prefix(1);
                break;
            }
            if (mark == '-' && (a.empty() || b.empty())) return a.empty() == b.empty() ? 0 : a.empty() ? -1 : 1;
            if (x || y) {
                if (x != y) return x ? -1 : 1;
                a.remove_prefix(1);
                b.remove_prefix(1);
                break;
            }
        }
        if (a.empty() && b.empty()) return 0;
        const bool numbers = (!a.empty() && digit(a.front())) || (!b.empty() && digit(b.front()));
        std::size_t x = 0;
        std::size_t y = 0;
        if (numbers) {
            while (!a.empty() && a.front() == '0') a.remove_prefix(1);
            while (!b.empty() && b.front() == '0') b.remove_prefix(1);
            while (x < a.size() && digit(a[x])) ++x;
            while (y < b.size() && digit(b[y])) ++y;
            if (x != y) return x < y ? -1 : 1;
        } else {
            while (x < a.size() && letter(a[x])) ++x;
            while (y < b.size() && letter(b[y])) ++y;
            if (x == 0 && y == 0) {
                if (a.empty() || b.empty()) return a.empty() ? -1 : 1;
                if (valid(a.front()) && valid(b.front())) continue;
                return 0;
            }
        }
        const int r = a.substr(0, x).compare(b.substr(0, y));
        if (r != 0) return r;
        a.remove_prefix(x);
        b.remove_prefix(y);
    }
}

/// The order of the list: used-up counters last, then sort keys, then names, newest first.
bool before(const Entry& a, const Entry& b) {
    const bool used_a = a.tries_left == 0;
    const bool used_b = b.tries_left == 0;
    if (used_a != used_b) return used_b;
    if (a.sort_key.empty() != b.sort_key.empty()) return !a.sort_key.empty();
    if (!a.sort_key.empty()) {
        if (a.sort_key != b.sort_key) return a.sort_key < b.sort_key;
        if (a.machine_id != b.machine_id) return a.machine_id < b.machine_id;
        if (const int r = compare_versions(a.version, b.version); r != 0) return r > 0;
    }
    if (const int r = compare_versions(a.id, b.id); r != 0) return r > 0;
    return false;
}

/// "name+LEFT-DONE.conf": the counter is a part of what a default names (252; really started).
void take_counter(const std::string& file, Entry& out) {
    const auto dot = file.rfind('.');
    const auto plus = file.rfind('+', dot);
    out.id = lower_text(file);
    if (plus == std::string::npos || dot == std::string::npos) return;
    int left = 0;
    const auto [end, error] = std::from_chars(file.data() + plus + 1, file.data() + dot, left);
    if (error != std::errc{} || (end != file.data() + dot && *end != '-')) return;
    out.tries_left = left;
}

std::string slashes(std::string_view path) {
    std::string out(path);
    std::ranges::replace(out, '\\', '/');
    return out.starts_with('/') ? out : fmt::format("/{}", out);
}

class Reader {
public:
    Reader(const Machine& machine, const Volume& esp, const EfiContext& context)
        : machine_(machine), esp_(esp), context_(context) {}

    std::vector<Entry> entries;
    /// Entries that are not listed: place, and why.
    std::vector<std::pair<std::string, std::string>> dropped;
    /// What the medium does not give: an entry may have been there.
    std::optional<Error> lost;
    /// A file that this medium gives, and beside which a sector is lost.
    std::optional<std::pair<std::string, Error>> beside;

    void read() {
        read_volume(esp_);
        // The extended boot partition of the same disk.
        const Disk* disk = machine_.disk(esp_.disk);
        if (disk != nullptr)
            for (const auto& p : disk->table.partitions)
                if (p.type_guid == boot_partition_type)
                    if (const VolumeRef more = machine_.volume(disk->number, p.number);
                        more != nullptr && plain_view(*more) != nullptr)
                        read_volume(*more);
        std::ranges::stable_sort(entries, before);
        automatic();
    }

private:
    void read_volume(const Volume& volume) {
        const FileSystem& fs = *plain_view(volume);
        auto each = [&](const std::string& folder, std::string_view ending, auto&& visit) {
            const auto found = resolve(fs, folder);
            const auto names = found ? fs.list(found->file.id) : fail(ErrorKind::NotFound, "none");
            if (!names) return miss(found ? names.error() : found.error());
            for (const auto& name : *names) {
                const auto lower = lower_text(name.name);
                // What it adds itself is called so.
                if (lower.ends_with(ending) && !lower.starts_with("auto-") && name.type != FileType::Directory &&
                    entries.size() < most_entries)
                    visit(folder + "/" + name.name, name.name);
            }
        };
        each("/loader/entries", ".conf",
             [&](const std::string& path, const std::string& name) { text_entry(volume, path, name); });
        each("/EFI/Linux", ".efi",
             [&](const std::string& path, const std::string& name) { unified(volume, path, name); });
    }

    void miss(const Error& error) {
        if (error.unreadable() && !lost) lost = error;
    }

    void look_beside(const Volume& volume, const std::string& path) {
        if (beside) return;
        if (auto error = lost_beside(volume, path)) beside = {path, std::move(*error)};
    }

    void text_entry(const Volume& volume, const std::string& path, const std::string& name) {
        const auto text = read_text_file(*plain_view(volume), path);
        if (!text) return miss(text.error());
        look_beside(volume, path);
        Entry e;
        take_counter(name, e);
        e.entry.place = fmt::format("{}:{}", volume.place, path);
        e.entry.line = 1;
        std::string kernel;
        std::string efi;
        std::string architecture;
        std::vector<std::pair<std::string, int>> ramdisks;
        std::string tree;
        int kernel_line = 0, tree_line = 0;
        each_pair(*text, [&](std::string_view key, std::string_view value, int line) {
            if (key == "title") e.title = value;
            else if (key == "version") e.version = value;
            else if (key == "machine-id") e.machine_id = value;
            else if (key == "sort-key") e.sort_key = value;
            else if (key == "architecture") architecture = lower_text(value);
            else if (key == "linux") {
                kernel = value;
                kernel_line = line;
            } else if (key == "efi") {
                efi = value;
                kernel_line = line;
            } else if (key == "devicetree") {
                tree = value;
                tree_line = line;
            } else if (key == "initrd") ramdisks.emplace_back(value, line);
            else if (key == "options") e.entry.arguments += (e.entry.arguments.empty() ? "" : " ") + std::string(value);
        });
        const std::string program = kernel.empty() ? efi : kernel;
        // Such entries do not appear in the list.
        if (program.empty()) return drop(e.entry.place, "it names neither a kernel nor a program");
        if (!architecture.empty() && architecture != efi_machine(context_.firmware).suffix)
            return drop(e.entry.place, fmt::format("it is for the architecture {}", architecture));
        auto file = refer(volume, program, slashes(program), kernel_line);
        if (!file.found()) return drop(e.entry.place, fmt::format("its kernel {} is not there", program));
        e.entry.title = e.title.empty() ? e.id : e.title;
        e.entry.id = e.id;
        e.entry.kernel = {file};
        if (kernel.empty()) {
            e.entry.kind = EntryKind::Chainload;
            e.entry.chain = ChainTarget{volume.place, {}};
            e.entry.kernel_loaded = true;
            entries.push_back(std::move(e));
            return;
        }
        e.entry.kind = EntryKind::Linux;
        e.entry.started_by = KernelEntry::Efi;
        e.entry.kernel_loaded = true;
        for (const auto& [ramdisk, line] : ramdisks) {
            auto part = refer(volume, ramdisk, slashes(ramdisk), line);
            const bool there = part.found();
            e.entry.ramdisks.push_back(part);
            if (there || e.entry.stop) continue;
            e.entry.messages.push_back({"Error preparing initrd: Not Found", e.entry.place, line});
            stop_without(
                e.entry, part, no_ramdisk,
                fmt::format("the RAM disk {} {}: the boot manager gives up on the entry and returns to the firmware",
                            ramdisk, part.unreadable() ? "cannot be read" : "is not there"));
        }
        if (!tree.empty() && !e.entry.stop) judge_tree(volume, e.entry, tree, tree_line);
        // The RAM disks are read before the program is loaded (252, image_start; really started).
        if (!e.entry.stop) judge_image(e.entry, program, file);
        entries.push_back(std::move(e));
    }

    /// A tree of devices takes the place of the firmware's own: where that has none, as on PCs, the entry fails, be the
    /// file there or not (src/boot/efi/devicetree.c, devicetree_install; really started).
    void judge_tree(const Volume& volume, MenuEntry& entry, std::string_view tree, int line) const {
        const auto file = refer(volume, std::string(tree), slashes(tree), line);
        const bool on_pc = efi_machine(context_.firmware).processor == Processor::X86;
        if (file.found() && !on_pc) return;
        std::string name = slashes(tree);
        std::ranges::replace(name, '/', '\\');
        entry.messages = {
            {fmt::format("Error loading {}: {}", name, on_pc ? "Unsupported" : "Not Found"), entry.place, line}};
        stop(entry, Code::EntryLoadsNothing,
             on_pc ? fmt::format(
                         "the entry has a tree of devices, {}, and the firmware of a PC has none to be replaced", tree)
                   : fmt::format("the tree of devices {} {}", tree,
                                 file.unreadable() ? "cannot be read" : "is not there"));
    }

    /// What the firmware's own loader says of an entry's program.
    void judge_image(MenuEntry& entry, std::string program, const FileReference& file) const {
        std::ranges::replace(program, '/', '\\');
        const auto source = open_file(file);
        const auto refuse = [&](Code code, std::string_view status, std::string why) {
            entry.messages = {{fmt::format("Error loading {}: {}", program, status), entry.place, file.line}};
            stop(entry, code, std::move(why));
        };
        if (source && context_.trust != nullptr)
            if (const auto why = context_.trust->refuse(*source))
                return refuse(Code::KernelSignatureRefused, "Access Denied",
                              fmt::format("{} does not let {} start: {}", context_.trust->by, file.place, *why));
        // A file whose clusters cannot be followed is not opened at all.
        if (!source)
            return refuse(Code::KernelRefusedByLoader, file.unreadable() ? "Device Error" : "Not Found",
                          fmt::format("the firmware does not open {}: its bytes cannot be put together", file.place));
        constexpr std::uint64_t headers = 4096;
        if (const auto unread = lost_within(*source, 0, headers))
            return refuse(Code::KernelUnreadable, "Not Found",
                          fmt::format("the firmware cannot read {}: {}", file.place, unread->what));
        const auto refused = refuse_efi_image(*source, context_.firmware);
        if (!refused) return;
        // Its "Not Found" is the boot menu's, which looks for the marks by itself; LoadImage has another word for that.
        refuse(Code::KernelRefusedByLoader, refused->screen == "Not Found" ? "Unsupported" : refused->screen,
               fmt::format("the firmware does not start {}: {}", file.place, refused->why));
    }

    /// A unified image: kernel, RAM disk, command line and the system's name are sections of one program.
    void unified(const Volume& volume, const std::string& path, const std::string& name) {
        auto read = read_unified(volume, path, context_.firmware);
        if (!read) {
            if (read.error().unreadable()) miss(read.error());
            return drop(read.error().what, read.error().found);
        }
        Entry e;
        take_counter(name, e);
        e.sort_key = read->image_id.empty() ? read->id : read->image_id;
        e.version = read->version;
        e.title = read->title;
        e.entry = std::move(read->entry);
        e.entry.title = read->title.empty() ? e.id : read->title;
        e.entry.id = e.id;
        judge_image(e.entry, path, read->file);
        look_beside(volume, path);
        entries.push_back(std::move(e));
    }

    /// Entries the boot manager adds by itself: the Windows boot manager, when its file is there.
    void automatic() {
        const std::string path = "/EFI/Microsoft/Boot/bootmgfw.efi";
        auto file = refer(esp_, path, path, 0);
        if (!file.found()) return;
        Entry e;
        e.id = "auto-windows";
        e.entry.title = "Windows Boot Manager";
        e.entry.id = e.id;
        e.entry.place = fmt::format("{}:/loader", esp_.place);
        e.entry.kind = EntryKind::Chainload;
        e.entry.kernel = {file};
        e.entry.chain = ChainTarget{esp_.place, {}};
        e.entry.kernel_loaded = true;
        entries.push_back(std::move(e));
    }

    void drop(const std::string& place, const std::string& why) {
        dropped.emplace_back(place, fmt::format("{} is not listed: {}", place, why));
    }

    const Machine& machine_;
    const Volume& esp_;
    const EfiContext& context_;
};

}  // namespace

/// What the boot manager keeps in variables of its own (boot.c, config_load_defaults); empty: not set, or none were
/// given.
std::string own_variable(const EfiContext& context, std::string_view name) {
    constexpr std::string_view vendor = "4a67b082-0a4c-41cf-b6c7-440b29bb8c4f";
    const auto* v = context.variables != nullptr ? context.variables->find(name, vendor) : nullptr;
    return v != nullptr ? load_option_text(v->data) : std::string();
}

/// The entry it starts by itself, as an index; -1: none of those that were asked for (boot.c,
/// config_select_default_entry).
int select_default(const std::vector<Entry>& entries, const EfiContext& context, const std::string& configured,
                   Menu& menu) {
    const auto find = [&](const std::string& pattern) {
        const auto found = std::ranges::find_if(
            entries, [&](const Entry& e) { return ::fnmatch(lower_text(pattern).c_str(), e.id.c_str(), 0) == 0; });
        return found != entries.end() ? static_cast<int>(found - entries.begin()) : -1;
    };
    // For this start only; then what was chosen in the menu; then the file.
    for (const std::string& asked :
         {own_variable(context, "LoaderEntryOneShot"), own_variable(context, "LoaderEntryDefault"), configured}) {
        if (asked.empty()) continue;
        const std::string pattern = asked == "@saved" ? own_variable(context, "LoaderEntryLastBooted") : asked;
        menu.default_setting = asked;
        if (const int at = pattern.empty() ? -1 : find(pattern); at >= 0) {
            menu.default_matches = true;
            return at;
        }
        // Which entry was saved is told by the variables only.
        menu.default_matches = asked.starts_with('@');
    }
    return -1;
}

LoaderRun run(const Machine& machine, const Volume& volume, const std::string& path, const EfiContext& context) {
    LoaderRun out;
    out.loader_text = fmt::format("systemd-boot {}:{} is whole and needs no further files", volume.place, path);
    out.loader_evidence = {evidence_place(fmt::format("{}:{}", volume.place, path))};
    out.menu.loader = "systemd-boot";
    out.menu.place = fmt::format("{}:/loader/loader.conf", volume.place);
    std::string wanted;
    out.menu.timeout = 0;
    out.menu.style = MenuStyle::Hidden;
    out.menu.reveal = "any key, held down";
    const auto config = read_text_file(*plain_view(volume), "/loader/loader.conf");
    if (config)
        each_pair(*config, [&](std::string_view key, std::string_view value, int /*line*/) {
            if (key == "default") wanted = value;
            if (key == "timeout") {
                int seconds = 0;
                std::from_chars(value.data(), value.data() + value.size(), seconds);
                if (value == "menu-force") out.menu.timeout.reset();
                else out.menu.timeout = seconds;
                if (seconds > 0 || value == "menu-force") out.menu.style = MenuStyle::Menu;
            }
        });
    for (const auto* name : {"LoaderConfigTimeout", "LoaderConfigTimeoutOneShot"})
        if (const auto text = own_variable(context, name); !text.empty()) {
            int seconds = 0;
            const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), seconds);
            if (text == "menu-force") out.menu.timeout.reset();
            else if (error == std::errc{}) out.menu.timeout = seconds;
            if (!out.menu.timeout || seconds > 0) out.menu.style = MenuStyle::Menu;
        }
    Reader reader(machine, volume, context);
    reader.read();
    for (const auto& [place, text] : reader.dropped)
        out.findings.push_back(make_finding(Code::BootEntryDropped, text, {evidence_place(place)}));
    int index = 0;
    int first = -1;
    out.menu.default_matches = true;
    const int chosen = select_default(reader.entries, context, wanted, out.menu);
    for (auto& e : reader.entries) {
        e.entry.index = index;
        e.entry.path = {index};
        if (first < 0 && e.id != "auto-windows") first = index;
        out.menu.entries.push_back(std::move(e.entry));
        ++index;
    }
    out.menu.default_entry = chosen >= 0 ? chosen : std::max(first, 0);
    // An entry of its own, wherever the firmware has a setup page to go to (src/boot/efi/boot.c).
    constexpr const char* nothing_listed =
        "Reboot Into Firmware Interface (alone in the menu, and taken when its time is up; firmware without such a "
        "page: No loader found.)";
    if (out.menu.entries.empty() && reader.lost) {
        stop(out, Code::BootEntriesMissing,
             fmt::format("the entries of {} cannot be read: {}", volume.place, reader.lost->what),
             {evidence_error(*reader.lost)}, nothing_listed);
        return out;
    }
    if (out.menu.entries.empty()) {
        stop(out, Code::BootEntriesMissing,
             fmt::format(
                 "{} has neither entry files in /loader/entries nor unified images in /EFI/Linux that could be listed",
                 volume.place),
             {evidence_place(fmt::format("{}:/loader/entries", volume.place), "an entry",
                             reader.dropped.empty() ? "none" : reader.dropped.front().second)},
             nothing_listed);
        out.returns = true;
        return out;
    }
    // What an entry starts is judged by itself.
    if (reader.beside) {
        out.loader_state = State::Unknown;
        out.loader_text += lost_beside_text(reader.beside->first);
        out.loader_evidence.push_back(evidence_error(reader.beside->second));
    }
    out.configuration_text =
        fmt::format("{} gives {} entr{}", config ? out.menu.place : fmt::format("{}:/loader/entries", volume.place),
                    out.menu.entries.size(), out.menu.entries.size() == 1 ? "y" : "ies");
    return out;
}

}  // namespace herberge::loader::systemd_boot
