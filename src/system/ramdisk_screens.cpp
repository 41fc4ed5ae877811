// SPDX-License-Identifier: MIT
#include "system/ramdisk_screens.hpp"

#include <fmt/format.h>

namespace herberge {

namespace {

/// The link that dracut waits for: root=UUID=… is looked for under /dev/disk.
std::string waited_for(std::string_view written) {
    struct Tag {
        std::string_view name, folder;
    };
    static constexpr Tag tags[] = {
        {"UUID=", "by-uuid"}, {"LABEL=", "by-label"}, {"PARTUUID=", "by-partuuid"}, {"PARTLABEL=", "by-partlabel"}};
    for (const auto& tag : tags)
        if (written.starts_with(tag.name))
            return fmt::format("/dev/disk/{}/{}", tag.folder, written.substr(tag.name.size()));
    return std::string(written);
}

/// A RAM disk whose maker is not known: what happens is, and how its own script puts it is not.
std::string in_its_own_words(std::string_view what) {
    return fmt::format("(in its own words, the RAM disk's script says that {})", what);
}

}  // namespace

std::string screen_root_unnamed(const Ramdisk* ramdisk) {
    if (ramdisk == nullptr) return screen_root_missing("(null)", nullptr);
    if (ramdisk->builder.empty()) return in_its_own_words("no root was named");
    if (ramdisk->builder == "dracut") return "dracut: FATAL: No or empty root= argument\ndracut: Refusing to continue";
    return "No root device specified. Boot arguments must include a root= parameter.";
}

std::string screen_root_missing(std::string_view written, const Ramdisk* ramdisk) {
    if (ramdisk == nullptr)
        return fmt::format("VFS: Cannot open root device \"{}\" or unknown-block(0,0): error -6\n{}", written,
                           root_panic);
    if (ramdisk->builder == "dracut")
        return fmt::format(
            "Warning: dracut-initqueue: timeout, still waiting for following initqueue hooks:\n"
            "Warning: \"{}\" does not exist\nEntering emergency mode. Exit the shell to continue.",
            waited_for(written));
    if (ramdisk->builder.empty()) return in_its_own_words(fmt::format("there is no {}", written));
    if (ramdisk->builder == "mkinitcpio")
        return fmt::format(
            "ERROR: device '{}' not found. Skipping fsck.\n"
            "ERROR: Failed to mount '{}' on real root\nYou are now being dropped into an emergency shell.",
            written, written);
    return fmt::format("Gave up waiting for root file system device.\nALERT! {} does not exist. Dropping to a shell!",
                       written);
}

std::string screen_mount_refused(std::string_view written, std::string_view reason, const Ramdisk* ramdisk) {
    if (ramdisk == nullptr) return std::string(root_panic);
    if (ramdisk->builder.empty()) return in_its_own_words(fmt::format("{} cannot be mounted: {}", written, reason));
    if (ramdisk->builder == "dracut")
        return "Failed to mount sysroot.mount - /sysroot.\nEntering emergency mode. Exit the shell to continue.";
    if (ramdisk->builder == "mkinitcpio")
        return fmt::format(
            "ERROR: Failed to mount '{}' on real root\nYou are now being dropped into an emergency shell.", written);
    // What it was told by a UUID or a label it has found by then, and names as the kernel does.
    return fmt::format("mount: mounting {0} on /root failed: {1}\nFailed to mount {0} as root file system.",
                       written.starts_with('/') ? written : "/dev/…", reason);
}

std::string screen_init_missing(std::string_view asked, const Ramdisk& ramdisk) {
    if (ramdisk.builder == "dracut")
        return fmt::format("Failed to execute {}\n[!!!!!!] Failed to execute fallback shell.", asked);
    if (ramdisk.builder == "mkinitcpio")
        return fmt::format(
            "ERROR: Root device mounted successfully, but {} does not exist.\nBailing out, you are on your own. Good "
            "luck.",
            asked);
    if (ramdisk.builder.empty()) return in_its_own_words(fmt::format("there is no {} that can be executed", asked));
    return fmt::format("Target filesystem doesn't have requested {}.\nNo init found. Try passing init= bootarg.",
                       asked);
}

std::string screen_init_refused(std::string_view asked, std::string_view reason, const Ramdisk& ramdisk) {
    if (ramdisk.builder == "dracut") return fmt::format("Failed to execute {}", asked);
    if (ramdisk.builder.empty()) return in_its_own_words(fmt::format("{} cannot be executed: {}", asked, reason));
    // initramfs-tools hands over with run-init, which BusyBox brings for it; mkinitcpio with switch_root.
    return fmt::format(
        "{}: can't execute '{}': {}\n---[ end Kernel panic - not syncing: Attempted to kill init! "
        "exitcode=0x00000100 ]---",
        ramdisk.builder == "initramfs-tools" ? "run-init" : "switch_root", asked, reason);
}

std::string screen_init_dies(int signal) {
    return fmt::format("---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x{:08x} ]---", signal);
}

}  // namespace herberge
