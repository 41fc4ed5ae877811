// SPDX-License-Identifier: MIT
#include "system/mount_options.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <span>

#include "files/features.hpp"

namespace herberge {

namespace {

/// An option: "name" stands alone, "name=" takes a value, "name=a|b" one of these, "name?" may take one.
using Options = std::span<const std::string_view>;

// What mount(8) itself takes, and what the kernel takes for every file system (libmount's optmap.c, fs/fs_context.c).
constexpr std::string_view of_all[] = {"defaults",
                                       "auto",
                                       "noauto",
                                       "user?",
                                       "nouser",
                                       "users",
                                       "nousers",
                                       "owner",
                                       "noowner",
                                       "group",
                                       "nogroup",
                                       "_netdev",
                                       "nofail",
                                       "comment=",
                                       "loop?",
                                       "offset=",
                                       "sizelimit=",
                                       "encryption=",
                                       "helper=",
                                       "uhelper=",
                                       "ro",
                                       "rw",
                                       "exec",
                                       "noexec",
                                       "suid",
                                       "nosuid",
                                       "dev",
                                       "nodev",
                                       "sync",
                                       "async",
                                       "dirsync",
                                       "remount",
                                       "bind",
                                       "rbind",
                                       "atime",
                                       "noatime",
                                       "diratime",
                                       "nodiratime",
                                       "relatime",
                                       "norelatime",
                                       "strictatime",
                                       "nostrictatime",
                                       "lazytime",
                                       "nolazytime",
                                       "mand",
                                       "nomand",
                                       "silent",
                                       "loud",
                                       "iversion",
                                       "noiversion",
                                       "symfollow",
                                       "nosymfollow",
                                       "private",
                                       "rprivate",
                                       "shared",
                                       "rshared",
                                       "slave",
                                       "rslave",
                                       "unbindable",
                                       "runbindable",
                                       "move",
                                       "context=",
                                       "fscontext=",
                                       "defcontext=",
                                       "rootcontext=",
                                       "seclabel",
                                       "sub",
                                       "nosub",
                                       "quiet",
                                       "pri=",
                                       "discard?",
                                       "verity.roothash=",
                                       "verity.hashdevice=",
                                       "verity.roothashfile=",
                                       "verity.hashoffset=",
                                       "verity.fecdevice=",
                                       "verity.fecoffset=",
                                       "verity.fecroots=",
                                       "verity.oncorruption=",
                                       "verity.roothashsig=",
                                       "sw"};

// fs/ext4/super.c, ext4_param_specs; with those of ext2, ext3 and of older releases.
constexpr std::string_view of_ext[] = {"bsddf",
                                       "minixdf",
                                       "grpid",
                                       "bsdgroups",
                                       "nogrpid",
                                       "sysvgroups",
                                       "resgid=",
                                       "resuid=",
                                       "sb=",
                                       "nouid32",
                                       "debug",
                                       "oldalloc",
                                       "orlov",
                                       "user_xattr",
                                       "nouser_xattr",
                                       "acl",
                                       "noacl",
                                       "norecovery",
                                       "noload",
                                       "bh",
                                       "nobh",
                                       "commit=",
                                       "min_batch_time=",
                                       "max_batch_time=",
                                       "journal_dev=",
                                       "journal_path=",
                                       "journal=",
                                       "journal_checksum",
                                       "nojournal_checksum",
                                       "journal_async_commit",
                                       "abort",
                                       "data=journal|ordered|writeback",
                                       "data_err=abort|ignore",
                                       "usrjquota?",
                                       "grpjquota?",
                                       "jqfmt=",
                                       "noquota",
                                       "quota",
                                       "usrquota",
                                       "grpquota",
                                       "prjquota",
                                       "barrier?",
                                       "nobarrier",
                                       "i_version",
                                       "dax?",
                                       "stripe=",
                                       "delalloc",
                                       "nodelalloc",
                                       "warn_on_error",
                                       "nowarn_on_error",
                                       "debug_want_extra_isize=",
                                       "mblk_io_submit",
                                       "nomblk_io_submit",
                                       "block_validity",
                                       "noblock_validity",
                                       "inode_readahead_blks=",
                                       "journal_ioprio=",
                                       "auto_da_alloc?",
                                       "noauto_da_alloc",
                                       "dioread_nolock",
                                       "nodioread_nolock",
                                       "dioread_lock",
                                       "nodiscard",
                                       "init_itable?",
                                       "noinit_itable",
                                       "max_dir_size_kb=",
                                       "prefetch_block_bitmaps",
                                       "no_prefetch_block_bitmaps",
                                       "mb_optimize_scan=",
                                       "test_dummy_encryption?",
                                       "inlinecrypt",
                                       "nombcache",
                                       "no_mbcache",
                                       "check=",
                                       "nocheck",
                                       "reservation",
                                       "noreservation",
                                       "xip",
                                       "errors=continue|panic|remount-ro",
                                       "fc_debug_max_replay=",
                                       "fc_debug_force",
                                       "extents",
                                       "noextents",
                                       "update=",
                                       "akpm",
                                       "noakpm",
                                       "resize?"};

// fs/xfs/xfs_super.c, xfs_fs_parameters; with those of older releases.
constexpr std::string_view of_xfs[] = {"logbufs=",     "logbsize=",   "logdev=",
                                       "rtdev=",       "wsync",       "noalign",
                                       "swalloc",      "sunit=",      "swidth=",
                                       "nouuid",       "grpid",       "nogrpid",
                                       "bsdgroups",    "sysvgroups",  "allocsize=",
                                       "norecovery",   "inode64",     "inode32",
                                       "ikeep",        "noikeep",     "largeio",
                                       "nolargeio",    "attr2",       "noattr2",
                                       "filestreams",  "quota",       "noquota",
                                       "usrquota",     "grpquota",    "prjquota",
                                       "uquota",       "gquota",      "pquota",
                                       "uqnoenforce",  "gqnoenforce", "pqnoenforce",
                                       "qnoenforce",   "nodiscard",   "dax?",
                                       "barrier",      "nobarrier",   "osyncisdsync",
                                       "osyncisosync", "delaylog",    "nodelaylog",
                                       "biosize=",     "mtpt=",       "ihashsize=",
                                       "irixsgid",     "lifetime",    "max_atomic_write="};

// fs/btrfs/super.c, btrfs_fs_parameters; with those of older releases.
constexpr std::string_view of_btrfs[] = {"acl",
                                         "noacl",
                                         "autodefrag",
                                         "noautodefrag",
                                         "barrier",
                                         "nobarrier",
                                         "check_int",
                                         "check_int_data",
                                         "check_int_print_mask=",
                                         "clear_cache",
                                         "commit=",
                                         "compress?",
                                         "compress-force?",
                                         "nocompress",
                                         "datacow",
                                         "nodatacow",
                                         "datasum",
                                         "nodatasum",
                                         "degraded",
                                         "device=",
                                         "nodiscard",
                                         "enospc_debug",
                                         "noenospc_debug",
                                         "fatal_errors=",
                                         "flushoncommit",
                                         "noflushoncommit",
                                         "inode_cache",
                                         "noinode_cache",
                                         "max_inline=",
                                         "metadata_ratio=",
                                         "norecovery",
                                         "rescan_uuid_tree",
                                         "rescue=",
                                         "skip_balance",
                                         "space_cache?",
                                         "nospace_cache",
                                         "ssd",
                                         "ssd_spread",
                                         "nossd",
                                         "nossd_spread",
                                         "subvol=",
                                         "subvolid=",
                                         "subvolrootid=",
                                         "thread_pool=",
                                         "treelog",
                                         "notreelog",
                                         "usebackuproot",
                                         "nologreplay",
                                         "recovery",
                                         "user_subvol_rm_allowed",
                                         "alloc_start=",
                                         "fragment=",
                                         "ref_verify",
                                         "ref_tracker"};

// fs/fat/inode.c: vfat_tokens and msdos_tokens; with those of older releases.
constexpr std::string_view of_fat[] = {"check=",
                                       "uid=",
                                       "gid=",
                                       "umask=",
                                       "dmask=",
                                       "fmask=",
                                       "allow_utime=",
                                       "codepage=",
                                       "usefree",
                                       "nocase",
                                       "showexec",
                                       "debug",
                                       "immutable",
                                       "sys_immutable",
                                       "flush",
                                       "tz=UTC",
                                       "time_offset=",
                                       "errors=continue|panic|remount-ro",
                                       "nodiscard",
                                       "nfs?",
                                       "dos1xfloppy",
                                       "dots",
                                       "nodots",
                                       "dotsOK=",
                                       "conv=",
                                       "blocksize=",
                                       "posix",
                                       "nonumtail?",
                                       "utf8?",
                                       "uni_xlate?",
                                       "shortname=lower|win95|winnt|mixed",
                                       "rodir",
                                       "iocharset=",
                                       "cvf_format=",
                                       "cvf_options=",
                                       "fat="};

Options of_driver(Format format) {
    switch (traits_of(format).family) {
        case Family::Ext: return of_ext;
        case Family::Xfs: return of_xfs;
        case Family::Btrfs: return of_btrfs;
        case Family::Fat: return of_fat;
        default: return {};
    }
}

/// `option` ("errors=panic") is the one that `row` describes.
bool is_taken(std::string_view row, std::string_view name, std::optional<std::string_view> value) {
    const auto sign = row.find_first_of("=?");
    if (row.substr(0, sign) != name) return false;
    if (sign == std::string_view::npos) return !value;
    if (row[sign] == '?') return true;
    if (!value) return false;
    auto choices = row.substr(sign + 1);
    if (choices.empty()) return true;
    while (!choices.empty()) {
        const auto one = choices.substr(0, choices.find('|'));
        if (one == *value) return true;
        choices.remove_prefix(std::min(one.size() + 1, choices.size()));
    }
    return false;
}

}  // namespace

namespace {

/// The first option that `taken` does not take of those that reach a driver, with its name and value.
template <class Taken>
std::optional<std::string> first_refused(std::string_view options, const Taken& taken) {
    bool quoted = false;
    std::string_view rest(options);
    while (!rest.empty()) {
        // Commas within quotes divide nothing: a context of SELinux has them.
        std::size_t end = 0;
        for (; end < rest.size() && (quoted || rest[end] != ','); ++end) quoted = quoted != (rest[end] == '"');
        const auto option = rest.substr(0, end);
        rest.remove_prefix(std::min(end + 1, rest.size()));
        const auto sign = option.find('=');
        const auto name = option.substr(0, sign);
        const auto value = sign != std::string_view::npos ? std::optional(option.substr(sign + 1)) : std::nullopt;
        // Those of a security module reach no driver.
        if (name.empty() || name.starts_with("x-") || name.starts_with("X-") || name.starts_with("smackfs")) continue;
        const bool usual =
            std::ranges::any_of(of_all, [&](std::string_view row) { return is_taken(row, name, value); });
        if (!usual && !taken(name, value)) return std::string(option);
    }
    return std::nullopt;
}

bool has_only(std::string_view text, std::string_view signs) {
    return !text.empty() && text.find_first_not_of(signs) == std::string_view::npos;
}

/// "25%", "64M", "0x100000": what memparse() of the kernel takes to its end (mm/shmem.c, shmem_parse_one).
bool is_size(std::string_view text) {
    if (text.ends_with('%')) text.remove_suffix(1);
    // "e" is a digit there.
    const std::string_view units = text.starts_with("0x") ? "kKmMgGtTpP" : "kKmMgGtTpPeE";
    if (!text.empty() && units.find(text.back()) != std::string_view::npos) text.remove_suffix(1);
    return text.starts_with("0x") ? has_only(text.substr(2), "0123456789abcdefABCDEF") : has_only(text, "0123456789");
}

}  // namespace

std::optional<std::string> refused_mount_option(Format format, std::string_view options) {
    const Options known = of_driver(format);
    if (known.empty()) return std::nullopt;
    return first_refused(options, [&](std::string_view name, std::optional<std::string_view> value) {
        return std::ranges::any_of(known, [&](std::string_view row) { return is_taken(row, name, value); });
    });
}

std::optional<std::string> refused_memory_option(std::string_view options) {
    return first_refused(options, [](std::string_view name, std::optional<std::string_view> value) {
        if (name == "size" || name == "nr_blocks" || name == "nr_inodes") return value && is_size(*value);
        if (name == "mode") return value && has_only(*value, "01234567");
        // mount(8) puts a number in the place of a name (libmount, mnt_optstr_fix_uid).
        if (name == "uid" || name == "gid") return value && !value->empty();
        if (name == "huge" || name == "mpol") return value.has_value();
        // With the quotas and the case that kernels after 6.1 took.
        static constexpr std::string_view others[] = {"inode32",  "inode64",  "noswap",   "quota",
                                                      "usrquota", "grpquota", "casefold", "strict_encoding"};
        return std::ranges::find(others, name) != std::end(others) || name.starts_with("usrquota_") ||
               name.starts_with("grpquota_");
    });
}

std::optional<std::string> other_than_asked(const Volume& volume, std::string_view type) {
    if (volume.files(Observer::Linux) == nullptr)
        return fmt::format("{} holds no file system that could be mounted", volume.place);
    if (file_system_fits(volume.as(Observer::Linux).format, type) || type.starts_with("ntfs")) return std::nullopt;
    return fmt::format("{} holds {}, and {} is asked for", volume.place, volume.info.name(), printable(type));
}

bool mount_options_known(std::string_view release) {
    const auto version = kernel_version(release);
    return version && *version <= KernelVersion{6, 12};
}

}  // namespace herberge
