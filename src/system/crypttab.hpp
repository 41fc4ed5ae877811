// SPDX-License-Identifier: MIT
// Who opens which encrypted volume at the start, and under which name.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/storage.hpp>
#include <herberge/system.hpp>

namespace herberge {

/// A line of a crypttab, or an argument that says the same.
struct CryptLine {
    std::string name;    ///< below /dev/mapper
    std::string source;  ///< "UUID=…", "/dev/sda2"
    std::string key;     ///< a file; empty: the passphrase is asked for
    std::string options;
    std::string where;         ///< "RAM disk:/cryptroot/crypttab, line 1"
    VolumeRef volume;          ///< what `source` is here; null: nothing answers to it
    bool cannot_tell = false;  ///< … or it may be another one on another machine: /dev/sda2
    bool by_mark =
        false;  ///< `source` is a UUID or a label: what lies inside something that nobody opens never answers
};

/// The lines of a crypttab (crypttab(5)); `where` names it.
[[nodiscard]] std::vector<CryptLine> parse_crypttab(const Machine& machine, std::string_view text,
                                                    std::string_view where);

/// What a RAM disk opens before the root is mounted: its crypttab, and the command line (crypttab(5) of Debian's
/// cryptsetup-initramfs, dracut.cmdline(7), systemd-cryptsetup-generator(8), the "encrypt" hook of mkinitcpio).
/// `ramdisk` may be null.
[[nodiscard]] std::vector<CryptLine> opened_at_start(const Machine& machine, const Ramdisk* ramdisk,
                                                     const CommandLine& arguments);

/// A LUKS volume that is not opened here.
[[nodiscard]] inline bool is_locked(const Machine& machine, const Volume& volume) {
    return volume.info.is(Family::Luks) && !machine.understands(volume);
}

/// What "/dev/mapper/NAME" is: by the command line, the RAM disk, else by the crypttab of a system that can be read.
/// The volume inside where it is opened here, else the encrypted one. Null: nobody says.
[[nodiscard]] VolumeRef by_crypt_name(const Machine& machine, std::string_view name, const Ramdisk* ramdisk,
                                      const CommandLine& arguments);

/// Where nothing answers to "/dev/mapper/NAME" by itself: puts in what by_crypt_name says.
void follow_crypt_name(const Machine& machine, RootReference& reference, const Ramdisk* ramdisk,
                       const CommandLine& arguments);

/// "; RAM disk:/cryptroot/crypttab, line 1 makes it from UUID=…, which is not there", where that is so; else empty.
[[nodiscard]] std::string why_not_opened(const Machine& machine, std::string_view device, const Ramdisk* ramdisk,
                                         const CommandLine& arguments);

/// The volume is made anew at every start, with a key that nobody knows (options "swap", "tmp", or a random key).
[[nodiscard]] bool is_made_anew(const CryptLine& line);

/// Would the encrypted volumes around the root be opened, or, where the root is not seen, those that the RAM disk
/// opens? Header, copy and key slots of each are looked at, and whether the RAM disk or the command line names it.
/// Holds too where there are none; `ramdisk` may be null.
[[nodiscard]] Claim judge_unlocking(const Machine& machine, const RootReference& root, const Ramdisk* ramdisk,
                                    const CommandLine& arguments);

}  // namespace herberge
