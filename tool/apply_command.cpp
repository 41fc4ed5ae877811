// SPDX-License-Identifier: MIT
// Writes a patch: into a copy that is made for it, or into one that is there. Never into an image that is given.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>
#include <algorithm>
#include <cstdio>
#include <iterator>
#include <optional>

#include <herberge/herberge.hpp>

#include "commands.hpp"
#include "inputs.hpp"
#include "output_file.hpp"

namespace tool {

using namespace herberge;

namespace {

struct About {
    bool there = false, block_device = false, regular = false;
    dev_t device = 0;
    ino_t inode = 0;
    dev_t special = 0;  ///< of a block device: which
};
About about(const std::string& path) {
    struct stat found {};
    if (::stat(path.c_str(), &found) != 0) return {};
    return {true, S_ISBLK(found.st_mode), S_ISREG(found.st_mode), found.st_dev, found.st_ino, found.st_rdev};
}

/// The same file, under whatever name.
bool same(const About& a, const About& b) {
    if (!a.there || !b.there) return false;
    return (a.device == b.device && a.inode == b.inode) || (a.block_device && b.block_device && a.special == b.special);
}

/// A new file: the disk with the changes; it has its name only when it is whole.
int write_copy(const Source& disk, const std::string& path) {
    constexpr std::uint64_t step = std::uint64_t{4} << 20U;
    OutputFile file;
    if (const auto problem = file.open(path, false); !problem.empty()) return complain(Exit::usage, problem);
    for (std::uint64_t at = 0; at < disk->size(); at += step) {
        const auto bytes = disk->bytes(at, std::min(step, disk->size() - at));
        if (!bytes) return complain(Exit::unreadable, printable(bytes.error().text()));
        if (!file.write(*bytes))
            return complain(Exit::unreadable, fmt::format("{} could not be written", printable(path)));
    }
    if (!file.keep()) return complain(Exit::unreadable, fmt::format("{} could not be written", printable(path)));
    return Exit::all_start;
}

bool write_all(int descriptor, const std::vector<std::uint8_t>& bytes, std::uint64_t at) {
    for (std::size_t done = 0; done < bytes.size();) {
        const auto wrote =
            ::pwrite(descriptor, bytes.data() + done, bytes.size() - done, static_cast<off_t>(at + done));
        if (wrote <= 0) return false;
        done += static_cast<std::size_t>(wrote);
    }
    return true;
}

/// The changes of one disk into a copy that is there. What they replace is kept first; if one cannot be written, those
/// before it are taken back.
int write_into(const std::string& path, const std::vector<Change>& changes, const Patch& undo) {
    OutputFile kept;
    const std::string keep = path + ".undo.json";
    if (const auto problem = kept.open(keep, false); !problem.empty()) return complain(Exit::usage, problem);
    const auto document = patch_json(undo);
    if (!kept.write({reinterpret_cast<const std::uint8_t*>(document.data()), document.size()}) || !kept.keep())
        return complain(Exit::unreadable, fmt::format("{} could not be written; nothing was changed", printable(keep)));
    const int descriptor = ::open(path.c_str(), O_RDWR | O_CLOEXEC);
    if (descriptor < 0)
        return complain(Exit::unreadable, fmt::format("{} cannot be opened for writing", printable(path)));
    std::size_t done = 0;
    while (done < changes.size() && write_all(descriptor, changes[done].after, changes[done].offset)) ++done;
    bool good = done == changes.size() && ::fsync(descriptor) == 0;
    // Read back: what was written must be there.
    for (const auto& change : changes) {
        std::vector<std::uint8_t> there(change.after.size());
        good = good &&
               ::pread(descriptor, there.data(), there.size(), static_cast<off_t>(change.offset)) ==
                   static_cast<ssize_t>(there.size()) &&
               there == change.after;
    }
    if (!good)
        for (std::size_t i = 0; i < std::min(done + 1, changes.size()); ++i)
            (void)write_all(descriptor, changes[i].before, changes[i].offset);
    ::close(descriptor);
    if (!good)
        return complain(Exit::unreadable, fmt::format("{} could not be written; it is as before", printable(path)));
    fmt::print("{}: changed; {} takes it back\n", printable(path), printable(keep));
    return Exit::all_start;
}

/// Why this path is not written to; nothing: it may be. `inputs`: the images, which never are.
std::optional<std::string> refusal(const std::string& path, const Options& options, const Source& disk,
                                   const std::vector<Change>& changes) {
    const About to = about(path);
    for (const auto& image : options.images)
        if (same(to, about(image)))
            return fmt::format("{} is the image {} itself: name a copy", printable(path), printable(image));
    if (!to.there) return std::nullopt;
    if (to.block_device && !options.device_yes)
        return fmt::format("{} is a block device: --device-yes allows it", printable(path));
    if (!to.block_device && !to.regular) return fmt::format("{} is neither a file nor a disk", printable(path));
    const auto copy = open_image(path, 0);
    if (!copy) return printable(copy.error().text());
    if ((*copy)->size() != disk->size())
        return fmt::format("{} is no copy: it has {} bytes, the image {}", printable(path), (*copy)->size(),
                           disk->size());
    for (const auto& change : changes) {
        const auto there = (*copy)->bytes(change.offset, change.before.size(), change.before.size());
        if (!there || *there != change.before)
            return fmt::format("{} is no copy: at byte {} it has other bytes than the patch expects", printable(path),
                               change.offset);
    }
    return std::nullopt;
}

}  // namespace

int run_apply(const Options& options) {
    const auto text = input_text(options.patch);
    if (!text) return Exit::unreadable;
    const auto patch = read_patch(*text);
    if (!patch) return complain(Exit::usage, printable(fmt::format("{}: {}", options.patch, patch.error().text())));
    if (patch->disks.size() != options.copies.size())
        return complain(Exit::usage, fmt::format("the patch changes {} disk{}: as many --to are needed, in their order",
                                                 patch->disks.size(), patch->disks.size() == 1 ? "" : "s"));
    Inputs opened;
    if (!opened.open(options)) return opened.status;
    Workshop shop(opened.machine);
    if (const auto applied = shop.apply(*patch); !applied)
        return complain(Exit::usage, printable(fmt::format("{}: {}", options.patch, applied.error().text())));
    const auto changes_of = [&](int disk) {
        std::vector<Change> out;
        std::ranges::copy_if(patch->changes, std::back_inserter(out), [&](const Change& c) { return c.disk == disk; });
        return out;
    };
    // Nothing is written before all of it may be.
    for (std::size_t i = 0; i < options.copies.size(); ++i) {
        const int number = patch->disks[i].number;
        if (const auto why =
                refusal(options.copies[i], options, opened.machine.disk(number)->source, changes_of(number)))
            return complain(Exit::usage, *why);
    }
    for (std::size_t i = 0; i < options.copies.size(); ++i) {
        const int number = patch->disks[i].number;
        Patch own;
        own.title = patch->title;
        own.disks = {patch->disks[i]};
        own.changes = changes_of(number);
        const bool there = about(options.copies[i]).there;
        const int status = there ? write_into(options.copies[i], own.changes, own.undone())
                                 : write_copy(shop.disk(number), options.copies[i]);
        if (status != Exit::all_start) return status;
        if (!there) fmt::print("{}: written\n", printable(options.copies[i]));
    }
    return Exit::all_start;
}

}  // namespace tool
