// SPDX-License-Identifier: MIT
// Writers for what a Windows machine is made of: NTFS, registry hives, PE images, boot records. Like all of the
// generator they share no code with the readers.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "forge.hpp"

namespace forge {

// --- registry hives
// ---------------------------------------------------------------------------------------------------

struct HiveEntry {
    std::string name;
    std::uint32_t type = 1;
    Bytes data;
};
/// A key with its values and subkeys.
struct HiveNode {
    std::string name;
    std::vector<HiveEntry> values;
    std::vector<HiveNode> children;

    HiveNode& child(const std::string& path);  ///< "Control\\Session Manager"; made as needed
    HiveNode& text(const std::string& value, const std::string& content, std::uint32_t type = 1);
    HiveNode& number(const std::string& value, std::uint32_t content);
    HiveNode& bytes(const std::string& value, Bytes content, std::uint32_t type = 3);
    HiveNode& texts(const std::string& value, const std::vector<std::string>& content);
};
enum class ListKind { Hash, Fast, Plain, Indexed };  ///< lh, lf, li, ri of lh
struct HiveOptions {
    ListKind lists = ListKind::Hash;
    std::uint32_t primary = 1;
    std::uint32_t secondary = 1;
};
Bytes make_hive(const HiveNode& root, const HiveOptions& options = {});
/// A log of the newer kind that puts `pages` (offset in the bins, content) into the hive as its entry `sequence`.
Bytes make_hive_log(const Bytes& hive, std::uint32_t sequence,
                    const std::vector<std::pair<std::uint32_t, Bytes>>& pages);
Bytes utf16(std::string_view text, bool with_zero = true);

// --- PE images
// --------------------------------------------------------------------------------------------------------

/// A version resource (one language), as the section ".rsrc"; `address` is where the section lies in memory.
Bytes make_version_resource(std::uint32_t address, const std::array<std::uint16_t, 4>& version,
                            std::string_view product, std::string_view description);

struct PeOptions {
    std::uint16_t machine = 0x8664;
    std::uint16_t subsystem = 1;
    std::vector<std::string> imports;
    std::vector<std::pair<std::string, Bytes>> sections;  ///< further ones; names of at most eight characters
    bool checksum = true;
};
Bytes make_pe(const PeOptions& options = {});

// --- NTFS
// -------------------------------------------------------------------------------------------------------------

struct NtfsOptions {
    std::uint64_t size = 16U << 20U;
    std::uint32_t hidden_sectors = 2048;
    std::uint64_t serial = 0xA1B0F00DA1B0F00DULL;
    std::string label;
    std::string loader_name;  ///< "BOOTMGR", "NTLDR": boot code that asks for this file; empty: none
    bool dirty = false;
    std::map<std::string, std::uint32_t>
        packed;  ///< paths of files kept packed as a whole: 0 XPRESS 4K, 1 LZX, 2 XPRESS 8K, 3 XPRESS 16K
    /// Packs one piece of such a file by that algorithm; an empty or longer result leaves it as it is.
    std::function<Bytes(const Bytes& piece, std::uint32_t algorithm)> pack_piece;
};
/// Small files lie inside their records, others in one run; directories with many names have index blocks.
Bytes make_ntfs(const Tree& tree, const NtfsOptions& options = {});

/// The file bootmgr, or ntldr: a 16-bit head and an image behind it.
Bytes make_boot_manager();

// --- imaging files
// ---------------------------------------------------------------------------------------------------

struct WimOptions {
    std::uint32_t boot_image = 1;  ///< 0: none is marked to be started
    std::string description;       ///< the XML text, ASCII
    /// Packs one piece of at most 32 KiB; an empty or longer result leaves it as it is. None: nothing is packed.
    std::function<Bytes(const Bytes& piece, std::uint32_t algorithm)> pack_piece;
    bool lzx = false;  ///< else XPRESS
};
/// An imaging file of one image.
Bytes make_wim(const Tree& tree, const WimOptions& options = {});
/// What a RAM disk for an imaging file begins with: boot.sdi, without the volume that lies in real ones.
Bytes make_ram_disk_head();

// --- the boot store
// ---------------------------------------------------------------------------------------------------

struct StoreEntry {
    std::string id, description, path, system_root;
    std::uint64_t partition_offset = 0;
    std::uint32_t disk_signature = 0;
};
/// A store with a boot manager and these systems; the first one is the default.
HiveNode make_store(const std::vector<StoreEntry>& systems, std::uint64_t boot_offset, std::uint32_t boot_signature);
Bytes partition_device(std::uint64_t offset, std::uint32_t signature);

struct RecoveryEntry {
    std::string id, options_id, description;
    std::string image = "\\Recovery\\WindowsRE\\Winre.wim", head = "\\Recovery\\WindowsRE\\boot.sdi";
    std::string loader = "\\windows\\system32\\winload.exe";
    std::uint64_t partition_offset = 0;
    std::uint32_t disk_signature = 0;
};
/// Adds a recovery environment to a store: the system `of` goes to it when it fails.
void add_recovery(HiveNode& store, const std::string& of, const RecoveryEntry& recovery);
/// A RAM disk made of a file, as a device.
Bytes ram_disk_device(const Bytes& options_guid, const Bytes& partition, std::string_view path);

}  // namespace forge
