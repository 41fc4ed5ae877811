// SPDX-License-Identifier: MIT
// What root= and fstab name, and whether the kernel could mount it.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>

#include <herberge/system.hpp>

#include "bytes/listed.hpp"
#include "files/btrfs.hpp"
#include "files/ext.hpp"
#include "storage/disk_letters.hpp"
#include "system/config_text.hpp"
#include "system/mount_options.hpp"

namespace herberge {

namespace {

std::vector<std::string> volumes_with(const Machine& machine, const std::function<std::string(const Volume&)>& what) {
    std::vector<std::string> out;
    machine.each_volume(Observer::Linux, [&](const Volume& v) {
        if (const auto text = what(v); !text.empty() && out.size() < 6)
            out.push_back(fmt::format("{} has {}", v.place, text));
    });
    return out;
}

/// The disk and partition of a device name like sda1, vda1, nvme0n1p2, mmcblk0p1.
struct DeviceName {
    int disk = 0;
    int partition = 0;
    std::string family;
};

std::optional<int> digits(std::string_view text) {
    int value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
    return value;
}

std::optional<DeviceName> parse_device_name(std::string_view name) {
    for (const std::string_view family : {"sd", "vd", "xvd", "hd"}) {
        if (!name.starts_with(family) || name.size() <= family.size()) continue;
        const auto behind = name.substr(family.size());
        const auto letters = behind.substr(0, std::min(behind.find_first_of("0123456789"), behind.size()));
        const auto disk = disk_of_letters(letters);
        const auto rest = behind.substr(letters.size());
        const auto number = rest.empty() ? std::optional<int>(0) : digits(rest);
        if (disk && number) return DeviceName{*disk, *number, std::string(family)};
    }
    for (const std::string_view family : {"nvme", "mmcblk"}) {
        if (!name.starts_with(family)) continue;
        auto rest = name.substr(family.size());
        if (family == "nvme") {
            const auto n = rest.find('n');
            if (n == std::string_view::npos) continue;
            const auto disk = digits(rest.substr(0, n));
            const auto p = rest.find('p', n);
            const auto part = p == std::string_view::npos ? std::optional<int>(0) : digits(rest.substr(p + 1));
            if (disk && part) return DeviceName{*disk + 1, *part, std::string(family)};
            continue;
        }
        const auto p = rest.find('p');
        const auto disk = digits(rest.substr(0, p));
        const auto part = p == std::string_view::npos ? std::optional<int>(0) : digits(rest.substr(p + 1));
        if (disk && part) return DeviceName{*disk + 1, *part, std::string(family)};
    }
    return std::nullopt;
}

/// Nothing that can be seen answers: whatever is recognised and not looked into may hold it.
void may_be_hidden(const Machine& machine, RootReference& out, std::string places) {
    if (places.empty()) {
        places = machine.places_of([](const Volume& v) { return v.mark_unreadable(); });
        if (!places.empty()) out.note = fmt::format("it may lie in {}, which cannot be read", places);
        return;
    }
    out.cannot_tell = true;
    out.note = fmt::format("it may lie in {}, which is not looked into here", places);
    bool encrypted = false;
    machine.each_volume(Observer::Linux,
                        [&](const Volume& v) { encrypted = encrypted || v.info.content() == Content::Encrypted; });
    if (encrypted) out.note += "; before an encrypted volume opens, the machine asks for its passphrase";
}

/// Arrays may be divided into partitions; logical volumes and encrypted ones are not by themselves.
std::string arrays(const Machine& machine) {
    return machine.places_of(
        [](const Volume& v) { return v.info.content() == Content::Member && v.info.is(Family::Raid); });
}

/// udev's by-label and by-uuid names escape what cannot stand in a file name as \xNN.
std::string unescape(std::string_view text) {
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        unsigned value = 0;
        if (text.substr(i).starts_with("\\x") && i + 3 < text.size() &&
            std::from_chars(text.data() + i + 2, text.data() + i + 4, value, 16).ec == std::errc{}) {
            out += static_cast<char>(value);
            i += 3;
        } else {
            out += text[i];
        }
    }
    return out;
}

/// "ubi0:name", "ubi:name", "ubi0_1", "ubi0" (Linux fs/ubifs/super.c, open_ubi); "mtd3", "mtd:name", "mtdblock3"
/// (drivers/mtd/mtdsuper.c).
std::optional<RootReference> flash_root(const Machine& machine, std::string_view root) {
    const bool plain = root.starts_with("mtd");
    if (!plain && !root.starts_with("ubi")) return std::nullopt;
    RootReference out;
    out.written = root;
    out.kind = RootReference::Kind::Device;
    out.value = root;
    if (plain) {
        // Which flash there is, and how it is divided, only the board's device tree or mtdparts= tell.
        out.volume = machine.by_linux_name(out.value);
        out.cannot_tell = out.volume == nullptr;
        if (out.cannot_tell) out.note = "flash is divided by words, not by a table on it: --flash-layout gives them";
        return out;
    }
    std::ranges::replace(out.value, '!', ':');
    if (out.value.starts_with("ubi:")) out.value.insert(3, "0");
    if (out.value.find_first_of(":_") == std::string::npos) out.value += "_0";
    out.volume = machine.by_linux_name(out.value);
    if (out.volume != nullptr) return out;
    // A flash whose volumes are known, or that has none any more.
    out.cannot_tell = true;
    std::string flash;
    machine.each_volume(Observer::Linux, [&](const Volume& v) {
        if (v.info.is(Family::Ubi) && flash.empty()) flash = v.place;
    });
    out.cannot_tell = flash.empty();
    for (const auto& volume : machine.layered)
        if (volume->kind == NodeKind::FlashVolume && out.near.size() < 6)
            out.near.push_back(fmt::format("{} is {}", volume->place, volume->names.linux_names.at(1)));
    if (!flash.empty() && out.near.empty())
        out.note = fmt::format("{} is divided by UBI, and Linux can attach no volume of it", flash);
    return out;
}

}  // namespace

RootReference resolve_device(const Machine& machine, std::string_view written) {
    RootReference out;
    out.written = written;
    using Kind = RootReference::Kind;
    std::string_view text = written;
    auto take = [&](std::string_view prefix) {
        if (!text.starts_with(prefix)) return false;
        text.remove_prefix(prefix.size());
        out.value = unescape(text);
        if (out.value.size() >= 2 && out.value.front() == '"' && out.value.back() == '"')
            out.value = out.value.substr(1, out.value.size() - 2);
        return true;
    };
    if (text.empty()) return out;
    if (take("UUID=") || take("/dev/disk/by-uuid/")) {
        out.kind = Kind::Uuid;
        // The kernel side compares text as udev writes it, which is the form recorded here.
        out.volume = machine.by_uuid(out.value);
        if (out.volume == nullptr) {
            out.near =
                volumes_with(machine, [](const Volume& v) { return v.info.uuid.empty() ? "" : "UUID=" + v.info.uuid; });
            may_be_hidden(machine, out, machine.hiding_places());
        }
        return out;
    }
    if (take("LABEL=") || take("/dev/disk/by-label/")) {
        out.kind = Kind::Label;
        out.volume = machine.by_label(out.value);
        if (out.volume == nullptr) {
            out.near = volumes_with(
                machine, [](const Volume& v) { return v.info.label.empty() ? "" : "LABEL=" + v.info.label; });
            may_be_hidden(machine, out, machine.hiding_places());
        }
        return out;
    }
    if (take("PARTUUID=") || take("/dev/disk/by-partuuid/")) {
        out.kind = Kind::PartUuid;
        int offset = 0;
        if (const auto slash = out.value.find("/PARTNROFF="); slash != std::string::npos) {
            offset = digits(std::string_view(out.value).substr(slash + 11)).value_or(0);
            out.value.resize(slash);
        }
        out.volume = machine.by_partuuid(out.value);
        if (out.volume != nullptr && offset != 0)
            out.volume = machine.volume(out.volume->disk, out.volume->partition + offset);
        if (out.volume == nullptr) {
            out.near = volumes_with(machine,
                                    [](const Volume& v) { return v.partuuid.empty() ? "" : "PARTUUID=" + v.partuuid; });
            may_be_hidden(machine, out, arrays(machine));
        }
        return out;
    }
    if (take("PARTLABEL=") || take("/dev/disk/by-partlabel/")) {
        out.kind = Kind::PartLabel;
        out.volume = machine.by_partlabel(out.value);
        if (out.volume == nullptr) {
            out.near = volumes_with(
                machine, [](const Volume& v) { return v.partlabel.empty() ? "" : "PARTLABEL=" + v.partlabel; });
            out.note = "partition labels exist on GPT disks only";
            may_be_hidden(machine, out, arrays(machine));
        }
        return out;
    }
    if (take("/dev/")) {
        out.kind = Kind::Device;
        if ((out.volume = machine.by_linux_name(out.value)) != nullptr) return out;
        if (auto flash = flash_root(machine, out.value)) {
            flash->written = written;
            return *flash;
        }
        if (const auto name = parse_device_name(out.value)) {
            out.depends_on_hardware = true;
            if (name->family == "hd") {
                out.note = "disks have not been named hd… by Linux since the old IDE driver was dropped";
                return out;
            }
            out.volume = machine.volume(name->disk, name->partition);
            return out;
        }
        // A name of device mapper's, where all is known that it could be made of, or of a group whose volumes are
        // known.
        const auto group = out.value.substr(0, out.value.find('/'));
        const bool known_group = std::ranges::any_of(machine.layered, [&](const VolumeRef& v) {
            return v->kind == NodeKind::LogicalVolume && v->names.linux_names.back().starts_with(group + "/");
        });
        const auto hidden = machine.hiding_places();
        if (hidden.empty() && !machine.layered.empty() && (group == "mapper" || known_group)) {
            for (const auto& volume : machine.layered)
                if (!volume->names.linux_names.empty() && out.near.size() < 6)
                    out.near.push_back(fmt::format("{} is /dev/{}", volume->place, volume->names.linux_names.front()));
            return out;
        }
        out.cannot_tell = true;
        may_be_hidden(machine, out, hidden);
        out.note = fmt::format("{} is made by device mapper, RAID or a name rule{}", written,
                               out.note.empty() ? "" : "; " + out.note);
        return out;
    }
    out.kind = Kind::Other;
    out.cannot_tell = true;
    return out;
}

RootReference resolve_root(const Machine& machine, std::string_view root) {
    auto out = resolve_device(machine, root);
    if (out.kind != RootReference::Kind::Other) return out;
    if (auto flash = flash_root(machine, root)) return *flash;
    // The kernel also takes numbers: "8:1", or hexadecimal "801" (init/do_mounts.c, name_to_dev_t).
    unsigned major = 0;
    unsigned minor = 0;
    const auto colon = root.find(':');
    bool number = false;
    if (colon != std::string_view::npos) {
        const auto a = digits(root.substr(0, colon));
        const auto b = digits(root.substr(colon + 1));
        number = a && b && *a >= 0 && *b >= 0;
        if (number) {
            major = static_cast<unsigned>(*a);
            minor = static_cast<unsigned>(*b);
        }
    } else {
        unsigned value = 0;
        const auto [end, error] = std::from_chars(root.data(), root.data() + root.size(), value, 16);
        number = error == std::errc{} && end == root.data() + root.size();
        major = value >> 8U;
        minor = value & 0xFFU;
    }
    if (!number) return out;
    out.kind = RootReference::Kind::Number;
    out.depends_on_hardware = true;
    if (major == 8) {  // SCSI disks: 16 numbers each
        out.cannot_tell = false;
        out.volume = machine.volume(static_cast<int>(minor / 16) + 1, static_cast<int>(minor % 16));
    }
    return out;
}

bool file_system_fits(Format format, std::string_view type) {
    const auto& traits = traits_of(format);
    return any_listed(type, [&](std::string_view word) {
        return word == "auto" || word == "fuseblk" || word == traits.name || is_listed(traits.mount_names, word);
    });
}

bool FstabLine::has_option(std::string_view option) const { return is_listed(options, option); }

std::vector<FstabLine> parse_fstab(std::string_view text, std::size_t fewest) {
    std::vector<FstabLine> out;
    int number = 0;
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        const auto line = text.substr(0, end);
        text.remove_prefix(std::min(end + 1, text.size()));
        ++number;
        auto fields = blank_words(line);
        if (fields.size() < fewest || fields[0].starts_with('#')) continue;
        fields.resize(6);
        if (fields[2].empty()) fields[2] = "auto";
        out.push_back({number, fields[0], fields[1], fields[2], fields[3], digits(fields[5]).value_or(0)});
    }
    return out;
}

Result<VolumeRef> mounted_root(const VolumeRef& volume, const CommandLine& arguments) {
    const auto* fs = volume->files(Observer::Linux);
    if (fs == nullptr || !volume->info.is(Family::Btrfs)) return volume;
    std::string_view options;
    const std::string given = arguments.value("rootflags").value_or("");
    options = given;
    FileId chosen = fs->usual_root();
    bool there_is = true;
    std::string asked;
    any_listed(options, [&](std::string_view option) {
        if (option.starts_with("subvol=")) {
            asked = option;
            std::string path(option.substr(7));
            if (!path.starts_with('/')) path.insert(0, 1, '/');
            while (path.size() > 1 && path.ends_with('/')) path.pop_back();
            there_is = path == "/";
            chosen = fs->root();
            for (const auto& one : fs->subvolumes())
                if (one.path == path) {
                    chosen = one.root;
                    there_is = true;
                }
        } else if (option.starts_with("subvolid=")) {
            asked = option;
            const auto number = digits(option.substr(9));
            there_is = number && (*number == 5 || *number == 0);
            chosen = fs->root();
            for (const auto& one : fs->subvolumes())
                if (number && one.number == static_cast<std::uint64_t>(*number)) {
                    chosen = one.root;
                    there_is = true;
                }
        }
        return false;
    });
    if (!there_is) {
        std::string there;
        for (const auto& one : fs->subvolumes())
            if (there.size() < 200) there += (there.empty() ? "" : ", ") + one.path.substr(1);
        return fail(ErrorKind::NotFound, fmt::format("{} has no such subvolume: {}", volume->place, asked),
                    volume->place, asked, there.empty() ? "no subvolumes" : there);
    }
    return chosen == fs->root() ? volume : volume->rooted(chosen);
}

Claim judge_root_mount(const Volume& volume, std::string_view options, std::string_view release) {
    Claim out;
    if (volume.not_assembled) {
        const Error& why = *volume.not_assembled;
        switch (why.lack()) {
            case Lack::Unsupported:
            case Lack::Exhausted:
                out.state = State::Unknown;
                out.text = fmt::format("{} cannot be looked into: {}", volume.place, why.what);
                out.evidence.push_back(evidence_error(why));
                return out;
            case Lack::Absent:
            case Lack::Damaged:
            case Lack::Unreadable: break;
        }
        const bool group = volume.kind == NodeKind::LogicalVolume;
        out.break_with(make_finding(
            Code::RootVolumeIncomplete,
            fmt::format("the {} {} cannot be put together: {}", node_kind_name(volume.kind), volume.place, why.what),
            {evidence_error(why)},
            group ? fmt::format("Refusing activation of partial LV {}. Use '--activationmode partial' to override.",
                                volume.names.linux_names.size() > 1 ? volume.names.linux_names[1] : "")
                  : ""));
        return out;
    }
    const auto too_new = judge_kernel_features(volume.info, volume.place, release);
    if (too_new && too_new->state == State::Breaks) return *too_new;
    if (volume.files(Observer::Linux) == nullptr) {
        const auto problem = volume.problem(Observer::Linux);
        if (const auto devices = btrfs_devices(*volume.source);
            problem && problem->unreadable() && devices && devices->count > volume.other_devices.size() + 1) {
            out.break_with(make_finding(
                Code::BtrfsDeviceMissing, fmt::format("the Btrfs driver refuses {}: {}", volume.place, problem->what),
                {evidence_error(*problem)},
                "BTRFS error (device …): failed to read chunk tree: -2\nBTRFS error (device …): open_ctree failed"));
            return out;
        }
        if (problem && problem->unreadable()) {
            out.break_with(make_finding(Code::RootUnreadable,
                                        fmt::format("the superblock of {} lies in sectors that cannot be read: {}",
                                                    volume.place, problem->what),
                                        {evidence_error(*problem)}));
            return out;
        }
        // What no reader here knows, or what lies behind a layer; what is damaged is told below.
        const bool damaged = problem && problem->lack() == Lack::Damaged;
        if (volume.unread() && !damaged && !volume.info.is(Family::Ext)) {
            // Recognised is not read: neither sound nor broken.
            out.state = State::Unknown;
            out.text = volume.info.content() == Content::Encrypted
                           ? fmt::format(
                                 "{} is encrypted ({}): the machine will ask for its passphrase; what lies inside "
                                 "cannot be looked at without it",
                                 volume.place, volume.info.name())
                       : volume.info.content() == Content::Member
                           ? fmt::format("{} is a {}: what lies inside is not looked into here", volume.place,
                                         volume.info.name())
                           : fmt::format("{} holds {}{}, which is recognised and not read here", volume.place,
                                         volume.info.name(),
                                         volume.info.uuid.empty() ? "" : fmt::format(" (UUID {})", volume.info.uuid));
            out.evidence.push_back(evidence_place(volume.place, {}, volume.info.name()));
            return out;
        }
        if (problem && problem->kind == ErrorKind::Unsupported && volume.info.is(Family::Ext)) {
            out.state = State::Unknown;
            out.text = fmt::format("whether {} can be mounted is not known: {}", volume.place, problem->what);
            out.evidence.push_back(evidence_error(*problem));
            return out;
        }
        if (volume.info.known() && !damaged && !volume.info.is(Family::Ext)) {
            out.break_with(
                make_finding(Code::RootNotAFileSystem,
                             fmt::format("{} holds {}, not a root file system", volume.place, volume.info.name()),
                             {evidence_place(volume.place, "a file system", volume.info.name())}));
            return out;
        }
        std::vector<Evidence> evidence{problem ? evidence_error(*problem) : evidence_place(volume.place)};
        std::string text = fmt::format(
            "{} holds no file system that could be mounted{}", volume.place,
            damaged && volume.info.known() && !volume.info.is(Family::Ext) ? fmt::format(": {}", problem->what) : "");
        if (const auto backup = find_ext_backup(*volume.source)) {
            text +=
                fmt::format("; a backup superblock of {} is intact at byte {}", backup->info.name(), backup->offset);
            evidence.push_back(evidence_bytes(*volume.source, backup->offset, 1024, {},
                                              "backup superblock, UUID " + backup->info.uuid));
        }
        out.break_with(make_finding(Code::RootNoFileSystem, std::move(text), std::move(evidence)));
        return out;
    }
    const auto obstacles = volume.files(Observer::Linux)->mount_obstacles(options);
    for (const auto& finding : obstacles) {
        auto copy = finding;
        copy.stage = Stage::Root;
        out.findings.push_back(std::move(copy));
    }
    if (!obstacles.empty()) {
        out.state = State::Breaks;
        out.text = obstacles.front().text;
        out.evidence = obstacles.front().evidence;
        return out;
    }
    if (const auto option = refused_mount_option(volume.as(Observer::Linux).format, options)) {
        const auto told = fmt::format("{} is to be mounted with the option {}, which the driver of {} does not know",
                                      volume.place, printable(*option), volume.info.name());
        const auto where = evidence_place("the command line", {}, printable(fmt::format("rootflags={}", options)));
        if (mount_options_known(release)) {
            out.break_with(make_finding(Code::RootOptionUnknown, told, {where}));
            return out;
        }
        // A newer kernel may know more.
        out.state = State::Unknown;
        out.text = told + " as far as it is listed here";
        out.evidence.push_back(where);
        return out;
    }
    if (too_new) return *too_new;
    out.state = State::Holds;
    out.text = fmt::format("{} is a mountable {} file system", volume.place, volume.info.name());
    out.evidence.push_back(evidence_bytes(*volume.source, 1024, 1024, {},
                                          fmt::format("{}, UUID {}", volume.info.name(), volume.info.uuid)));
    return out;
}

}  // namespace herberge
