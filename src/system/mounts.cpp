// SPDX-License-Identifier: MIT
#include "system/mounts.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <set>

#include "files/features.hpp"
#include "loader/text.hpp"
#include "system/crypttab.hpp"
#include "system/mount_options.hpp"

namespace herberge {

namespace {

using loader::trim;

class Mounts {
public:
    Mounts(const Machine& machine, const InitChoice& init, const CommandLine& arguments, const MountingStart& start,
           ServicesClaim& out)
        : machine_(machine),
          init_(init),
          arguments_(arguments),
          units_(start.units),
          plan_(start.plan),
          no_devices_(start.no_devices),
          stops_without_(start.stops_without),
          out_(out) {}

    void run() {
        const auto text = busybox_mounts() ? read_text_file(out_.fs, "/etc/fstab") : out_.text_of("/etc/fstab");
        if (!text && text.error().unreadable() && busybox_mounts()) return mounts_lost(text.error());
        if (!text) {
            if (text.error().kind == ErrorKind::NotFound && busybox_mounts())
                mount_breaks(
                    Code::FstabMissing,
                    fmt::format("{} is not there, and the start-up script mounts what it lists", out_.at("/etc/fstab")),
                    {evidence_place(out_.at("/etc/fstab"), "a readable file", "not there")},
                    "mount: can't read '/etc/fstab': No such file or directory");
            return;
        }
        std::set<std::string> units;
        for (const auto& line : parse_fstab(*text, units_ != nullptr ? 2 : 3)) {
            ++out_.checked;
            // systemd makes one unit of each mount point, by the first line that has it (fstab-generator; really
            // started).
            if (units_ != nullptr && line.type != "swap" &&
                !units.insert(UnitStore::name_of_path(line.mount_point, ".mount")).second)
                continue;
            mount(line);
        }
        if (busybox_mounts()) short_lines(*text);
    }

private:
    /// Without this mount the start ends.
    [[nodiscard]] bool is_needed(const FstabLine& line) const {
        if (line.type == "swap" || line.mount_point == "/") return false;
        if (units_ == nullptr)
            return !line.has_option("noauto") && !line.has_option("nofail") && !line.has_option("x-systemd.automount");
        return !dragged_along(*units_, *plan_, UnitStore::name_of_path(line.mount_point, ".mount")).empty();
    }

    /// BusyBox' mount names the device that it found, which the kernel names by the hardware (util-linux/mount.c).
    static std::string mount_failed(const FstabLine& line, std::string_view reason, bool found = true) {
        const bool by_name = line.device.starts_with('/') || !found;
        return fmt::format("mount: mounting {} on {} failed: {}", by_name ? printable(line.device) : "/dev/…",
                           printable(line.mount_point), reason);
    }

    /// systemd keeps what mount(8) says in its journal, and shows which mount failed; others show `words`.
    [[nodiscard]] std::string screen(const FstabLine& line, std::string words) const {
        if (init_.flavour != "systemd") return words;
        return fmt::format("Failed to mount {}.\nYou are in emergency mode.", printable(line.mount_point));
    }

    /// Why a mount as `type` fails of a volume that holds something else.
    [[nodiscard]] std::string_view refusal_as(std::string_view type) const {
        static constexpr Format all[] = {
#define HERBERGE_FORMAT(name, ...) Format::name,
#include <herberge/formats.def>
#undef HERBERGE_FORMAT
        };
        const auto* asked = std::ranges::find_if(all, [&](Format f) { return file_system_fits(f, type); });
        const auto driver =
            asked != std::end(all) && init_.has_driver ? init_.has_driver(*asked, {}).there : std::nullopt;
        // Without its driver the kernel does not come to look.
        return !driver ? "…" : *driver ? "Invalid argument" : "No such device";
    }

    static std::string waits_in_vain(const FstabLine& line) {
        return fmt::format("Timed out waiting for device {}.\nYou are in emergency mode.", printable(line.device));
    }

    /// Its list is empty to BusyBox' mount where it opens and gives nothing (util-linux/mount.c; really started).
    void mounts_lost(const Error& error) {
        if (!resolve(out_.fs, "/etc/fstab")) {
            mount_breaks(
                Code::FstabMissing,
                fmt::format("{} cannot be read, and the start-up script mounts what it lists", out_.at("/etc/fstab")),
                {evidence_error(error)}, "mount: can't read '/etc/fstab': Input/output error");
            return;
        }
        out_.unmounted = "/etc/fstab cannot be read: nothing that it lists is mounted";
        out_.claim.evidence.push_back(evidence_error(error));
    }

    /// BusyBox' own mount is the one that reads the list; util-linux passes over what it cannot read.
    [[nodiscard]] bool busybox_mounts() const {
        if (init_.flavour != "busybox") return false;
        const auto program = resolve(out_.fs, "/bin/mount");
        return !program || program->path.find("busybox") != std::string::npos;
    }
    /// Lines that lack a mount point or a type are mounted all the same, and fail (getmntent(3); util-linux/mount.c).
    void short_lines(std::string_view text) {
        each_line(text, [&](int number, std::string_view line) {
            const auto fields = blank_words(line);
            if (fields.empty() || fields.size() > 2 || fields[0].starts_with('#')) return;
            const std::string point = fields.size() > 1 ? std::string(fields[1]) : "";
            if (point == "/") return;  // which is mounted
            const bool there = !point.empty() && resolve(out_.fs, point);
            mount_breaks(there ? Code::FstabNotMountable : Code::FstabDeviceMissing,
                         fmt::format("line {} of {} has no {}, and what mounts the list fails at it", number,
                                     out_.at("/etc/fstab"), point.empty() ? "mount point" : "type"),
                         {evidence_line(out_.at("/etc/fstab"), number, "six fields", printable(trim(line)))},
                         fmt::format("mount: mounting {} on {} failed: {}", printable(fields[0]), printable(point),
                                     there ? "No such device" : "No such file or directory"));
        });
    }

    /// A mount that fails: it stops a start only where something looks at that.
    void mount_breaks(Code code, std::string text, std::vector<Evidence> evidence, std::string symptom) {
        if (stops_without_) return out_.breaks(code, std::move(text), std::move(evidence), std::move(symptom));
        auto finding = make_finding(code, text + "; the script that mounts it goes on without it", std::move(evidence),
                                    std::move(symptom));
        finding.severity = Severity::Risk;
        out_.claim.findings.push_back(std::move(finding));
    }
    void mount_untold(std::string text, Evidence evidence) {
        if (stops_without_) out_.untold(std::move(text), std::move(evidence));
    }

    /// Its crypttab makes this device anew at every start.
    [[nodiscard]] bool made_anew(std::string_view device) {
        constexpr std::string_view mapper = "/dev/mapper/";
        if (!device.starts_with(mapper)) return false;
        const auto lines =
            parse_crypttab(machine_, out_.text_of("/etc/crypttab").value_or(""), out_.at("/etc/crypttab"));
        return std::ranges::any_of(lines, [&](const CryptLine& line) {
            return line.name == device.substr(mapper.size()) && is_made_anew(line);
        });
    }

    /// An automount needs a driver of the kernel's, whatever it mounts later.
    void automount(const FstabLine& line) {
        if (units_ == nullptr || !line.has_option("x-systemd.automount") || !init_.has_module) return;
        const auto unit = UnitStore::name_of_path(line.mount_point, ".automount");
        if (dragged_along(*units_, *plan_, unit).empty()) return;
        DriverAnswer driver;
        for (const std::string_view name : {"autofs4", "autofs"})
            if (driver = init_.has_module(name, "CONFIG_AUTOFS_FS"); driver.there != false) return;
        mount_breaks(
            Code::FstabNoDriver,
            fmt::format("{} is mounted when it is used, and the kernel {} has no driver for that on this root: {}",
                        printable(line.mount_point), printable(init_.kernel_release), printable(driver.why)),
            {evidence_line(out_.at("/etc/fstab"), line.line, {}, printable(line.options)),
             evidence_place(out_.at(driver.place), "autofs4", "not there")},
            fmt::format("Failed to set up automount {}.\nYou are in emergency mode.", unit));
    }

    /// Its crypttab makes the device of another one that is not there.
    bool never_opened(const FstabLine& line) {
        constexpr std::string_view mapper = "/dev/mapper/";
        if (init_.flavour != "systemd" || !line.device.starts_with(mapper)) return false;
        const auto lines =
            parse_crypttab(machine_, out_.text_of("/etc/crypttab").value_or(""), out_.at("/etc/crypttab"));
        for (const auto& one : lines) {
            if (one.name != line.device.substr(mapper.size()) || one.volume != nullptr || one.cannot_tell) continue;
            mount_breaks(Code::FstabDeviceMissing,
                         fmt::format("{} demands {} for {}, which {} makes from {}, and nothing here answers to that",
                                     out_.at("/etc/fstab"), printable(line.device), printable(line.mount_point),
                                     one.where, printable(one.source)),
                         {evidence_line(out_.at("/etc/fstab"), line.line, printable(line.device), "not opened"),
                          evidence_place(one.where, printable(one.source), "nothing here answers to it")},
                         waits_in_vain(line));
            return true;
        }
        return false;
    }

    /// systemd makes a mount point that is not there, but not below a file (mkdir_p; really started).
    bool point_refused(const FstabLine& line) {
        if (units_ == nullptr) return false;
        const auto point = resolve(out_.fs, line.mount_point);
        const bool file = point && point->file.type == FileType::Regular && !line.has_option("bind");
        if (!file && (point || point.error().kind != ErrorKind::WrongType)) return false;
        mount_breaks(Code::FstabMountPointMissing,
                     file ? fmt::format("the mount point {} is a file", printable(line.mount_point))
                          : fmt::format("the mount point {} cannot be made: {}", printable(line.mount_point),
                                        point.error().what),
                     {evidence_line(out_.at("/etc/fstab"), line.line, "a folder", printable(line.mount_point))},
                     screen(line, ""));
        return true;
    }

    /// An option that the driver refuses, as far as it is listed here: a newer kernel may know more.
    void option_refused(const FstabLine& line, std::string told, Evidence where) {
        if (!mount_options_known(init_.kernel_release))
            return mount_untold(told + " as far as it is listed here", std::move(where));
        mount_breaks(Code::FstabOptionUnknown, std::move(told), {std::move(where)},
                     screen(line, mount_failed(line, "Invalid argument")));
    }

    bool memory_refused(const FstabLine& line) {
        if (line.type != "tmpfs") return false;
        const auto option = refused_memory_option(line.options);
        if (!option) return false;
        option_refused(line,
                       fmt::format("the file system in memory for {} has the option {}, which its driver refuses",
                                   printable(line.mount_point), printable(*option)),
                       evidence_line(out_.at("/etc/fstab"), line.line, {}, printable(line.options)));
        return true;
    }

    /// A mount of systemd's waits for the unit of its device, which no longer appears; that of /usr is made before.
    bool unannounced(const FstabLine& line, const Volume& volume, const Evidence& where) {
        if (units_ == nullptr || init_.devices_told || line.mount_point == "/usr") return false;
        const bool by_node = line.device.starts_with("/dev/") && !line.device.starts_with("/dev/disk/");
        if (no_devices_ == nullptr || (no_devices_->names_alone && by_node)) return false;
        auto evidence = no_devices_->evidence;
        evidence.push_back(where);
        mount_breaks(Code::FstabDeviceUnannounced,
                     fmt::format("the mount of {} for {} waits for a device that nobody announces: {}", volume.place,
                                 printable(line.mount_point), no_devices_->why),
                     std::move(evidence), waits_in_vain(line));
        return true;
    }

    /// "tmpfs /srv" alone: no type, and no such device.
    bool nothing_to_mount(const FstabLine& line) {
        if (line.type != "auto" || line.device.find_first_of("/=:") != std::string::npos || line.has_option("bind"))
            return false;
        mount_breaks(
            Code::FstabNotMountable,
            fmt::format("{} for {} has no type, and is no device", printable(line.device), printable(line.mount_point)),
            {evidence_line(out_.at("/etc/fstab"), line.line, "a type", printable(line.device))},
            screen(line, mount_failed(line, "No such file or directory")));
        return true;
    }

    void mount(const FstabLine& line) {
        automount(line);
        static constexpr std::array<std::string_view, 16> no_disk = {
            "proc", "sysfs",   "tmpfs",  "devtmpfs", "devpts",  "none",     "nfs",  "nfs4",
            "cifs", "overlay", "cgroup", "cgroup2",  "debugfs", "efivarfs", "fuse", "bind"};
        const bool needed = is_needed(line);
        if (needed && (point_refused(line) || memory_refused(line) || nothing_to_mount(line))) return;
        if (std::ranges::find(no_disk, line.type) != no_disk.end() || line.device.starts_with("//") ||
            line.has_option("bind") || line.has_option("_netdev"))
            return;
        auto target = resolve_device(machine_, line.device);
        follow_crypt_name(machine_, target, nullptr, arguments_);
        if (target.volume == nullptr && made_anew(target.written)) return;
        if (needed && target.volume == nullptr && never_opened(line)) return;
        if (target.cannot_tell && needed)
            mount_untold(fmt::format("{} for {} cannot be followed: {}", printable(line.device),
                                     printable(line.mount_point), target.note),
                         evidence_line(out_.at("/etc/fstab"), line.line, {}, printable(line.device)));
        if (target.cannot_tell || target.kind == RootReference::Kind::Other) return;
        const Evidence where =
            evidence_line(out_.at("/etc/fstab"), line.line, printable(line.device),
                          target.volume != nullptr ? target.volume->place : "nothing here answers to it");
        if (line.type == "swap") {
            if (target.volume == nullptr || target.volume->info.format != Format::Swap)
                out_.risk(
                    Code::FstabSwapMissing,
                    fmt::format("the swap area {} is not there; the system starts without it", printable(line.device)),
                    {where});
            return;
        }
        if (line.mount_point == "/") {
            if (target.volume == nullptr || target.volume->place != out_.root.place)
                out_.risk(Code::FstabRootDiffers,
                          fmt::format("/etc/fstab names {} as root, the kernel is told {}", printable(line.device),
                                      out_.root.place),
                          {where});
            return;
        }
        if (!needed) return;
        // File systems whose own identifiers are read here; those of a partition table are, whatever it holds.
        static constexpr std::array<std::string_view, 10> identified = {
            "auto", "vfat", "msdos", "xfs", "btrfs", "f2fs", "exfat", "iso9660", "squashfs", "fuseblk"};
        const bool known_type = line.type.starts_with("ext") || line.type.starts_with("ntfs") ||
                                std::ranges::find(identified, line.type) != identified.end() ||
                                target.kind == RootReference::Kind::PartUuid ||
                                target.kind == RootReference::Kind::PartLabel;
        const std::string symptom =
            init_.flavour == "systemd" ? waits_in_vain(line) : mount_failed(line, "No such file or directory", false);
        if (target.volume == nullptr) {
            if (!known_type) {
                out_.risk(Code::FstabDeviceNotFound,
                          fmt::format("{} for {} was not found here; {} volumes may not be recognised",
                                      printable(line.device), printable(line.mount_point), printable(line.type)),
                          {where});
                return;
            }
            mount_breaks(Code::FstabDeviceMissing,
                         fmt::format("{} demands {} for {}, and nothing here answers to it", out_.at("/etc/fstab"),
                                     printable(line.device), printable(line.mount_point)),
                         {where}, symptom);
            return;
        }
        if (unannounced(line, *target.volume, where)) return;
        if (target.volume->unread()) {
            mount_untold(fmt::format("{} for {} holds {}, which is recognised and not read here", target.volume->place,
                                     printable(line.mount_point), target.volume->info.name()),
                         where);
            return;
        }
        if (!known_type) return;
        if (const auto other = other_than_asked(*target.volume, line.type)) {
            const bool nothing = target.volume->files(Observer::Linux) == nullptr;
            mount_breaks(Code::FstabNotMountable,
                         fmt::format("{} cannot be mounted: {}", printable(line.mount_point), *other), {where},
                         screen(line, mount_failed(line, nothing ? "Invalid argument" : refusal_as(line.type))));
            return;
        }
        const auto format = target.volume->as(Observer::Linux).format;
        if (const auto driver = init_.has_driver ? init_.has_driver(format, line.options) : DriverAnswer{};
            driver.there == false) {
            const std::string module(traits_of(format).linux_module);
            mount_breaks(
                Code::FstabNoDriver,
                fmt::format("{} for {} holds {}, and the kernel {} has no driver for that on this root: {}",
                            target.volume->place, printable(line.mount_point), target.volume->info.name(),
                            printable(init_.kernel_release), printable(driver.why)),
                {where, evidence_place(out_.at(driver.place), module, "not there")},
                screen(line, fmt::format("mount: {}: unknown filesystem type '{}'.", printable(line.mount_point),
                                         line.type == "auto" ? module : printable(line.type))));
            return;
        }
        if (const auto option = refused_mount_option(format, line.options)) {
            option_refused(
                line,
                fmt::format("{} for {} has the option {}, which the driver of {} does not know", target.volume->place,
                            printable(line.mount_point), printable(*option), target.volume->info.name()),
                where);
            return;
        }
        if (const auto obstacles = target.volume->files(Observer::Linux)->mount_obstacles(line.options);
            !obstacles.empty()) {
            mount_breaks(Code::FstabNotMountable,
                         fmt::format("{} for {} cannot be mounted: {}", target.volume->place,
                                     printable(line.mount_point), obstacles.front().text),
                         {where}, screen(line, mount_failed(line, "Invalid argument")));
            return;
        }
        // A subvolume that is not there is not mounted.
        if (const auto mounted = mounted_root(target.volume, CommandLine("rootflags=" + line.options)); !mounted) {
            mount_breaks(Code::FstabNotMountable,
                         fmt::format("{} for {} cannot be mounted: {}", target.volume->place,
                                     printable(line.mount_point), mounted.error().what),
                         {where, evidence_error(mounted.error())},
                         screen(line, mount_failed(line, "No such file or directory")));
            return;
        }
        if (init_.flavour != "systemd") {
            const auto point = resolve(out_.fs, line.mount_point);
            if (!point && point.error().unreadable())
                mount_untold(
                    fmt::format("whether the mount point {} is there cannot be read", printable(line.mount_point)),
                    evidence_error(point.error()));
            else if (!point || point->file.type != FileType::Directory)
                mount_breaks(Code::FstabMountPointMissing,
                             fmt::format("the mount point {} does not exist", printable(line.mount_point)), {where},
                             symptom);
        }
    }

    const Machine& machine_;
    const InitChoice& init_;
    const CommandLine& arguments_;
    const UnitStore* units_;
    const StartPlan* plan_;
    const NoDevices* no_devices_;
    bool stops_without_;
    ServicesClaim& out_;
};

}  // namespace

void judge_mounts(const Machine& machine, const InitChoice& init, const CommandLine& arguments,
                  const MountingStart& start, ServicesClaim& out) {
    Mounts(machine, init, arguments, start, out).run();
}

}  // namespace herberge
