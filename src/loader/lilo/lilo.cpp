// SPDX-License-Identifier: MIT
// LILO: a first sector that reads lists of sectors. Nothing on the disk names a file once it is installed, so the
// configuration (lilo.conf(5)) tells what was meant, and running the code tells which sectors it really loads.
#include <fmt/format.h>
#include <algorithm>

#include "loader/lilo/map.hpp"
#include "loader/text.hpp"

namespace herberge::loader::lilo {

namespace {

constexpr std::size_t most_images = 64;
constexpr std::size_t most_lines = 5000;

/// The options of one section, in order of appearance; a bare word has an empty value.
struct Section {
    std::string kind;  ///< "image", "other"; empty: the global part
    std::string value;
    int line = 0;
    std::vector<std::pair<std::string, std::string>> options;
    [[nodiscard]] const std::string* find(std::string_view name) const {
        const auto found = std::ranges::find_if(options, [&](const auto& o) { return o.first == name; });
        return found != options.end() ? &found->second : nullptr;
    }
};

std::vector<Section> parse(std::string_view text) {
    std::vector<Section> out(1);
    int line = 0;
    while (!text.empty() && line < static_cast<int>(most_lines)) {
        const auto end = std::min(text.find('\n'), text.size());
        std::string_view rest = trim(text.substr(0, end));
        text.remove_prefix(std::min(end + 1, text.size()));
        ++line;
        bool quoted = false;
        for (std::size_t i = 0; i < rest.size(); ++i) {
            quoted = quoted != (rest[i] == '"');
            if (rest[i] == '#' && !quoted) rest = trim(rest.substr(0, i));
        }
        if (rest.empty()) continue;
        const auto equals = rest.find('=');
        std::string name(trim(rest.substr(0, equals)));
        std::string value(equals == std::string_view::npos ? std::string_view{} : trim(rest.substr(equals + 1)));
        std::erase(value, '"');
        if ((name == "image" || name == "other") && out.size() < most_images) {
            out.emplace_back();
            out.back().kind = name;
            out.back().value = value;
            out.back().line = line;
            continue;
        }
        out.back().options.emplace_back(std::move(name), std::move(value));
    }
    return out;
}

/// "/dev/sda2" as a volume: LILO wrote its sectors when that was its name.
VolumeRef named_volume(const Machine& machine, std::string_view device) {
    if (!device.starts_with("/dev/") || device.size() < 8) return nullptr;
    device.remove_prefix(5);
    if (!device.starts_with("sd") && !device.starts_with("hd") && !device.starts_with("vd")) return nullptr;
    const int disk = device[2] - 'a' + 1;
    int partition = 0;
    for (const char c : device.substr(3)) {
        if (c < '0' || c > '9' || partition > 1000) return nullptr;
        partition = partition * 10 + (c - '0');
    }
    return machine.volume(disk, partition);
}

class Reading {
public:
    Reading(const Machine& machine, const Volume& volume, std::vector<Section> sections)
        : machine_(machine), volume_(volume), sections_(std::move(sections)) {}

    Menu menu(const std::string& place) {
        Menu out;
        out.loader = "LILO";
        out.place = place;
        const Section& global = sections_.front();
        for (std::size_t i = 1; i < sections_.size(); ++i)
            out.entries.push_back(entry(sections_[i], place, static_cast<int>(i) - 1));
        if (const auto* wanted = global.find("default")) {
            out.default_setting = *wanted;
            const auto found = std::ranges::find(out.entries, *wanted, &MenuEntry::title);
            out.default_matches = found != out.entries.end();
            if (out.default_matches) out.default_entry = static_cast<int>(found - out.entries.begin());
        }
        out.style = MenuStyle::Hidden;
        out.reveal = "Shift held down";
        out.timeout = tenths(global.find("delay"), 0);
        if (global.find("prompt") != nullptr) {
            out.style = MenuStyle::Menu;
            out.timeout =
                global.find("timeout") != nullptr ? std::optional(tenths(global.find("timeout"), 0)) : std::nullopt;
        }
        against_map(out);
        return out;
    }

    std::vector<Finding> findings;

private:
    /// What the map lists, against the files as they lie now. The code reads the map, never the files.
    void against_map(Menu& menu) {
        const auto* named = sections_.front().find("map");
        const std::string path = named != nullptr ? *named : "/boot/map";
        std::vector<std::string> labels;
        for (const auto& entry : menu.entries) labels.push_back(entry.title);
        const auto images = read_map(machine_, volume_, path, labels);
        for (auto& entry : menu.entries) {
            const auto image = std::ranges::find(images, entry.title, &MapImage::label);
            if (image == images.end()) {
                if (!images.empty())
                    stale(entry,
                          fmt::format("{}:{} does not list “{}”: LILO was not installed since the entry was written",
                                      volume_.place, path, entry.title));
                continue;
            }
            compare(menu, entry, *image, entry.kernel, image->kernel, "the kernel");
            compare(menu, entry, *image, entry.ramdisks, image->ramdisk, "the RAM disk");
        }
    }

    void compare(const Menu& menu, MenuEntry& entry, const MapImage& image, const std::vector<FileReference>& files,
                 const std::vector<DiskRange>& listed, std::string_view what) {
        if (files.empty() || !files.front().found()) return;
        const auto match = compare_lists(listed, ranges_of(*files.front().volume, files.front().file));
        if (match == ListMatch::Unknown || match == ListMatch::Same) return;
        std::string whose;
        for (const auto& other : menu.entries)
            for (const auto* list : {&other.kernel, &other.ramdisks})
                for (const auto& file : *list)
                    if (whose.empty() && file.found() &&
                        compare_lists(listed, ranges_of(*file.volume, file.file)) == ListMatch::Same)
                        whose = fmt::format("; they are those of {}", file.place);
        stale(entry, fmt::format("for “{}” {} lists sectors that {} those of {} {}{}", image.label, image.place,
                                 match == ListMatch::Other ? "are not" : "are only in part", what, files.front().place,
                                 whose));
    }

    void stale(MenuEntry& entry, std::string text) {
        findings.push_back(
            make_finding(Code::LiloListStale, text, {evidence_line(entry.place, entry.line, {}, entry.title)}));
        entry.messages.push_back({std::move(text), entry.place, entry.line});
    }

    static int tenths(const std::string* text, int otherwise) {
        if (text == nullptr) return otherwise;
        int value = 0;
        for (const char c : *text)
            if (c >= '0' && c <= '9' && value < 100000) value = value * 10 + (c - '0');
        return (value + 9) / 10;
    }

    [[nodiscard]] const std::string* option(const Section& section, std::string_view name) const {
        const auto* own = section.find(name);
        return own != nullptr ? own : sections_.front().find(name);
    }

    MenuEntry entry(const Section& section, const std::string& place, int index) const {
        MenuEntry out;
        const auto slash = section.value.rfind('/');
        out.title = section.value.substr(slash == std::string::npos ? 0 : slash + 1);
        if (const auto* label = section.find("label")) out.title = *label;
        out.place = place;
        out.line = section.line;
        out.index = index;
        out.path = {index};
        out.restricted = option(section, "password") != nullptr && option(section, "restricted") == nullptr;
        if (section.kind == "other") {
            chain(out, section);
            return out;
        }
        out.kind = EntryKind::Linux;
        out.started_by = KernelEntry::RealMode;
        out.arguments = arguments(section);
        auto kernel = refer(volume_, section.value, section.value, section.line);
        // The sectors may still hold the kernel when its file is gone: the next write decides.
        if (!kernel.found())
            stop(out, Code::LiloFileGone,
                 fmt::format(
                     "{} is gone: LILO loads the sectors that it had when LILO was installed, and they are free now",
                     kernel.place));
        out.kernel = {std::move(kernel)};
        if (const auto* initrd = option(section, "initrd")) {
            auto file = refer(volume_, *initrd, *initrd, section.line);
            if (!file.found())
                stop(
                    out, Code::LiloRamdiskGone,
                    fmt::format(
                        "{} is gone: LILO loads the sectors that it had when LILO was installed, and they are free now",
                        file.place));
            out.ramdisks = {std::move(file)};
        }
        out.kernel_loaded = !out.stop.has_value();
        return out;
    }

    [[nodiscard]] std::string arguments(const Section& section) const {
        const auto* label = section.find("label");
        std::string out = fmt::format("BOOT_IMAGE={}", label != nullptr ? *label : section.value);
        if (option(section, "read-only") != nullptr) out += " ro";
        if (option(section, "read-write") != nullptr) out += " rw";
        if (const auto* root = option(section, "root"); root != nullptr && *root != "current") out += " root=" + *root;
        else out += " root=" + (volume_.info.uuid.empty() ? std::string() : "UUID=" + volume_.info.uuid);
        if (const auto* literal = section.find("literal")) return *literal;
        for (const std::string_view name : {"append", "addappend"})
            if (const auto* more = option(section, name)) out += " " + *more;
        return out;
    }

    void chain(MenuEntry& out, const Section& section) const {
        out.kind = EntryKind::Chainload;
        VolumeRef volume = named_volume(machine_, section.value);
        if (volume == nullptr) {
            stop(out, Code::EntryDeviceMissing, fmt::format("nothing on this machine answers to {}", section.value));
            return;
        }
        out.chain = first_sector_of(volume->source);
        out.kernel_loaded = true;
    }

    const Machine& machine_;
    const Volume& volume_;
    std::vector<Section> sections_;
};

constexpr std::string_view config = "/etc/lilo.conf";

}  // namespace

bool recognise(std::span<const std::uint8_t> sector) {
    // The name stands behind the jump in every version that had it; the versions differ in what follows.
    static constexpr std::string_view mark = "LILO";
    return sector.size() >= 512 && std::equal(mark.begin(), mark.end(), sector.begin() + 6,
                                              [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

std::vector<Menu> configurations(const Machine& machine, const Volume& volume) {
    const auto text = read_text_file(*plain_view(volume), config);
    if (!text) return {};
    Reading reading(machine, volume, parse(*text));
    return {reading.menu(fmt::format("{}:{}", volume.place, config))};
}

LoaderRun run(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    out.route.push_back(fmt::format("{}: LILO", place.text()));
    out.first_sector_text = "LILO's first part, which loads lists of sectors";
    // What it was installed from: the volume itself, else one on the same disk, else any.
    VolumeRef home;
    int best = 0;
    machine.each_volume([&](const Volume& v) {
        if (plain_view(v) == nullptr || !resolve(*plain_view(v), config)) return;
        const int score = place.volume.get() == &v ? 3 : v.disk == place.disk->number ? 2 : 1;
        if (score > best) {
            best = score;
            home = v.shared_from_this();
        }
    });
    if (home == nullptr) {
        out.undecoded = true;
        return out;
    }
    const auto text = read_text_file(*plain_view(*home), config);
    if (!text) {
        out.undecoded = true;
        return out;
    }
    Reading reading(machine, *home, parse(*text));
    out.menu = reading.menu(fmt::format("{}:{}", home->place, config));
    out.findings = std::move(reading.findings);
    out.configuration_text =
        fmt::format("{} tells what was meant ({} entr{}); LILO itself reads the lists made from it", out.menu.place,
                    out.menu.entries.size(), out.menu.entries.size() == 1 ? "y" : "ies");
    out.loader_text = "its lists of sectors lead to code that runs";
    out.loader_evidence = {place.evidence(0, 440)};
    const MenuEntry* automatic = out.menu.unattended();
    // Asking for the kernel's own sectors proves the lists; another kernel's entry shows that they are stale.
    if (automatic != nullptr && !automatic->kernel.empty() && automatic->kernel.front().found()) {
        const auto& kernel = automatic->kernel.front();
        out.proof = ranges_of(*kernel.volume, kernel.file);
        out.proof_by_kernel = true;
    }
    return out;
}

}  // namespace herberge::loader::lilo
