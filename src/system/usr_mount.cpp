// SPDX-License-Identifier: MIT
#include "system/usr_mount.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "system/crypttab.hpp"
#include "system/mount_options.hpp"
#include "system/ramdisk_screens.hpp"

namespace herberge {

namespace {

std::optional<FstabLine> line_of_usr(const FileSystem& fs) {
    const auto text = read_text_file(fs, "/etc/fstab");
    if (!text) return std::nullopt;
    const auto lines = parse_fstab(*text);
    const auto line = std::ranges::find(lines, "/usr", &FstabLine::mount_point);
    return line != lines.end() ? std::optional(*line) : std::nullopt;
}

bool is_memory(const FstabLine& line) { return line.type == "tmpfs" || line.type == "ramfs"; }

class Usr {
public:
    Usr(const Machine& machine, const VolumeRef& root, const Ramdisk* ramdisk, const CommandLine& arguments,
        std::string_view release)
        : machine_(machine), root_(root), ramdisk_(ramdisk), arguments_(arguments), release_(release) {}

    UsrMount run() {
        out_.root = root_;
        out_.claim.state = State::Holds;
        const FileSystem* fs = root_->files(Observer::Linux);
        if (fs == nullptr || ramdisk_ == nullptr) return out_;
        const auto line = line_of_usr(*fs);
        if (!line) return out_;
        where_ = evidence_line(fmt::format("{}:/etc/fstab", root_->place), line->line, printable(line->device));
        const auto point = resolve(*fs, "/usr");
        if (!point || point->file.type != FileType::Directory) {
            refused(*line, "the root has no folder /usr to mount it on", "No such file or directory");
            return out_;
        }
        if (!is_memory(*line)) {
            volume(*line, point->file.id);
            return out_;
        }
        out_.root = root_->mounted(point->file.id, nullptr);
        out_.claim.text = "an empty file system in memory is mounted on /usr";
        out_.claim.evidence = {where_};
        return out_;
    }

private:
    void volume(const FstabLine& line, FileId point) {
        auto target = resolve_device(machine_, line.device);
        follow_crypt_name(machine_, target, nullptr, arguments_);
        if (target.volume == nullptr) {
            if (target.cannot_tell || target.kind == RootReference::Kind::Other)
                return untold(fmt::format("whether {} for /usr is there is not told by these images{}",
                                          printable(line.device), target.note.empty() ? "" : ": " + target.note));
            return breaks(fmt::format("{} for /usr is not here, and the RAM disk waits for it", printable(line.device)),
                          told_by_itself() ? fmt::format("Gave up waiting for /usr file system device.\n"
                                                         "ALERT! {} does not exist. Dropping to a shell!",
                                                         printable(line.device))
                                           : "");
        }
        where_.found = target.volume->place;
        if (target.volume->place == root_->place || target.volume->unread() || target.volume->not_assembled)
            return untold(fmt::format("{} for /usr is not looked into here", target.volume->place));
        if (const auto other = other_than_asked(*target.volume, line.type))
            return refused(line, *other, "Invalid argument");
        const auto mount = judge_root_mount(*target.volume, line.options, release_);
        if (mount.state == State::Breaks) return refused(line, mount.text, "Invalid argument");
        const auto within = mounted_root(target.volume, CommandLine("rootflags=" + line.options));
        if (!within) return refused(line, within.error().what, "No such file or directory");
        out_.root = root_->mounted(point, *within);
        out_.claim.text = fmt::format("{} is mounted on /usr", target.volume->place);
        out_.claim.evidence = {where_};
        if (ramdisk_->builder.empty() || (ramdisk_->builder == "mkinitcpio" && ramdisk_->find("/hooks/usr") == nullptr))
            untold(fmt::format("whether its RAM disk mounts {} on /usr is not known", target.volume->place));
    }

    [[nodiscard]] bool told_by_itself() const { return ramdisk_->builder == "initramfs-tools"; }

    void refused(const FstabLine& line, const std::string& why, std::string_view reason) {
        const std::string device = line.device.starts_with('/') ? printable(line.device) : "/dev/…";
        breaks(fmt::format("{} cannot be mounted on /usr: {}", printable(line.device), why),
               fmt::format("mount: mounting {0} on /root/usr failed: {1}\nFailed to mount {0} as /usr file system.",
                           device, reason));
    }
    /// It is known of initramfs-tools alone that it goes no further.
    void breaks(std::string text, std::string screen) {
        if (!told_by_itself()) return untold(std::move(text));
        out_.claim.break_with(make_finding(Code::UsrNotMounted, std::move(text), {where_}, std::move(screen)));
    }
    void untold(std::string text) {
        out_.claim.state = State::Unknown;
        out_.claim.text = std::move(text);
        out_.claim.evidence = {where_};
    }

    const Machine& machine_;
    const VolumeRef& root_;
    const Ramdisk* ramdisk_;
    const CommandLine& arguments_;
    std::string_view release_;
    Evidence where_;
    UsrMount out_;
};

}  // namespace

UsrMount mount_usr(const Machine& machine, const VolumeRef& root, const Ramdisk* ramdisk, const CommandLine& arguments,
                   std::string_view release) {
    return Usr(machine, root, ramdisk, arguments, release).run();
}

VolumeRef with_usr(const Machine& machine, const VolumeRef& root) {
    const FileSystem* fs = root->files(Observer::Linux);
    if (fs == nullptr) return root;
    const auto line = line_of_usr(*fs);
    if (!line || is_memory(*line)) return root;
    const auto point = resolve(*fs, "/usr");
    const auto target = resolve_device(machine, line->device);
    if (!point || target.volume == nullptr || target.volume->place == root->place) return root;
    return root->mounted(point->file.id, target.volume);
}

}  // namespace herberge
