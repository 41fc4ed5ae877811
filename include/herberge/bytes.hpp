// SPDX-License-Identifier: MIT
// The ground floor: everything that can be read is a ByteSource.
#pragma once

#include <atomic>
#include <cstdint>
#include <cstring>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <type_traits>
#include <vector>

#include <herberge/error.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// A run of bytes on a disk. Disks count from 1, as in the place notation "d1@512+16".
struct DiskRange {
    int disk = 0;
    std::uint64_t offset = 0;  ///< bytes from the disk's first byte
    std::uint64_t length = 0;  ///< bytes

    friend bool operator==(const DiskRange&, const DiskRange&) = default;
    /// "d1@512+16"
    [[nodiscard]] std::string text() const;
};

/// A disk, a partition, a file in a volume, a piece of memory: anything with positioned reads.
/// Reading is const and may happen from several threads.
class ByteSource {
public:
    virtual ~ByteSource() = default;

    /// Length in bytes.
    [[nodiscard]] virtual std::uint64_t size() const noexcept = 0;

    /// Fills `into` with the bytes at `offset`; all of them or an Error
    /// (OutOfRange, Io, Unreadable, or what the layers below report).
    [[nodiscard]] virtual Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const = 0;

    /// The disk ranges that hold [offset, offset+length), in order. Holes and memory have none.
    [[nodiscard]] virtual std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const = 0;

    /// What this source is called in messages: "d1", "d1p1", "d1p1:/boot/grub/grub.cfg".
    [[nodiscard]] virtual std::string place() const = 0;

    /// A copy of `length` bytes at `offset`. Refuses (TooLarge) beyond `most` before allocating.
    [[nodiscard]] Result<std::vector<std::uint8_t>> bytes(std::uint64_t offset, std::uint64_t length,
                                                          std::uint64_t most = std::uint64_t{64} << 20) const;

    /// The whole source as text or bytes, refused (TooLarge) beyond `most`.
    [[nodiscard]] Result<std::string> text(std::uint64_t most = std::uint64_t{16} << 20) const;

    /// One plain structure at `offset`.
    template <class T>
    requires std::is_trivially_copyable_v<T>
    [[nodiscard]] Result<T> load(std::uint64_t offset) const {
        T value;
        std::span<std::uint8_t> into(reinterpret_cast<std::uint8_t*>(&value), sizeof(T));
        if (auto done = read(offset, into); !done) return tl::unexpected(done.error());
        return value;
    }
};

using Source = std::shared_ptr<const ByteSource>;

/// How much was read from images, for `--stats` and the benchmarks.
struct ReadCounters {
    std::atomic<std::uint64_t> bytes{0};  ///< bytes fetched from the operating system
    std::atomic<std::uint64_t> reads{0};  ///< read calls made to the operating system
};

/// An image file or block device, opened read-only, behind a small block cache (2 MiB).
/// Small reads are served from 4 KiB blocks; large ones go straight to the file.
class ImageFile : public ByteSource {
public:
    [[nodiscard]] virtual const ReadCounters& counters() const noexcept = 0;
};

/// Opens `path` as disk `disk` (counted from 1). Errors: Io (absent, a directory, no permission),
/// Malformed (an empty file).
[[nodiscard]] Result<std::shared_ptr<const ImageFile>> open_image(const std::string& path, int disk);

/// Bytes in memory, owned. With `disk` > 0 they count as the content of that disk from its start.
[[nodiscard]] Source memory_source(std::vector<std::uint8_t> bytes, std::string place, int disk = 0);

/// The window [offset, offset+length) of `base`, cut at the end of `base`.
[[nodiscard]] Source slice(Source base, std::uint64_t offset, std::uint64_t length, std::string place);

/// A piece of a file: `length` bytes at `offset` of the file lie at `base_offset` of the base.
struct Extent {
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
    std::uint64_t base_offset = 0;

    friend bool operator==(const Extent&, const Extent&) = default;
};

/// A file of `size` bytes made of extents (ascending, not overlapping); what no extent covers reads as zeros.
[[nodiscard]] Source extent_source(Source base, std::vector<Extent> extents, std::uint64_t size, std::string place);

/// Several sources one behind the other, each filled with zeros up to a multiple of `alignment` bytes (0: none):
/// how loaders hand several RAM disk files to a kernel.
[[nodiscard]] Source concatenate(std::vector<Source> parts, std::uint64_t alignment, std::string place);

/// `base` with changes laid over it; `base` itself is never written.
class Overlay : public ByteSource {
public:
    /// Lays `bytes` over the source at `offset`; Error OutOfRange past its end.
    virtual Result<void> write(std::uint64_t offset, std::span<const std::uint8_t> bytes) = 0;
    /// The changed ranges in ascending order, as offset and content.
    [[nodiscard]] virtual std::vector<std::pair<std::uint64_t, std::vector<std::uint8_t>>> changes() const = 0;
};
[[nodiscard]] std::shared_ptr<Overlay> overlay(Source base);

/// A source parts of which cannot be read. Thread-safe like every source.
class DamagedSource : public ByteSource {
public:
    /// The unreadable bytes that reads have asked for so far, as offset and length, ascending, touching ones joined.
    [[nodiscard]] virtual std::vector<std::pair<std::uint64_t, std::uint64_t>> asked() const = 0;
};

/// `base`, but reads that touch one of `ranges` (offset and length in bytes; any order, any number) fail with
/// Unreadable.
[[nodiscard]] std::shared_ptr<const DamagedSource> with_unreadable(
    Source base, std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges);

// --- compression ------------------------------------------------------------------------------------------

/// The compressed containers that kernels, RAM disks and loaders use.
enum class Compression : std::uint8_t { None, Gzip, Xz, Lzma, Zstd, Lz4Legacy, Bzip2, Lzop, Lz4Frame };

/// The name people use: "gzip", "xz" …
[[nodiscard]] std::string_view compression_name(Compression kind);

/// Judges by the first bytes (at least 6 are needed), as the Linux kernel does (lib/decompress.c).
[[nodiscard]] Compression recognise_compression(std::span<const std::uint8_t> start);
/// The same as U-Boot does (boot/image.c, image_comp): its lz4 is the frame format, not Linux' own.
[[nodiscard]] Compression recognise_board_compression(std::span<const std::uint8_t> start);

/// Receives unpacked bytes; returning false ends the unpacking early without an error.
using ByteSink = std::function<bool(std::span<const std::uint8_t>)>;

struct Unpacked {
    std::uint64_t consumed = 0;  ///< compressed bytes used, container framing included
    std::uint64_t produced = 0;  ///< bytes given to the sink
};

/// Unpacks one container at `offset` of `source`, reading at most `length` bytes and producing at most `most`
/// (beyond: TooLarge). Memory is bounded by 64 KiB of input plus the codec's window; windows over 128 MiB are refused.
/// Errors: Malformed or Checksum with the place reached, OutOfRange for a container that is cut off.
[[nodiscard]] Result<Unpacked> unpack(Compression kind, const ByteSource& source, std::uint64_t offset,
                                      std::uint64_t length, std::uint64_t most, const ByteSink& sink);

/// Raw LZMA1 data without a header (GRUB's i386-pc core: lc=3 lp=0 pb=2), exactly `size` bytes long when unpacked.
[[nodiscard]] Result<std::vector<std::uint8_t>> unpack_raw_lzma(std::span<const std::uint8_t> packed,
                                                                std::uint64_t size, std::uint32_t dictionary);

// --- checksums and text -----------------------------------------------------------------------------------

/// CRC-32C (Castagnoli), reflected, no final inversion: the form ext4 chains (kernel: crc32c_le).
[[nodiscard]] std::uint32_t crc32c(std::uint32_t seed, std::span<const std::uint8_t> bytes) noexcept;
/// CRC-16/ARC style used by ext4's older group checksums (kernel: crc16, polynomial 0x8005 reflected).
[[nodiscard]] std::uint16_t crc16(std::uint16_t seed, std::span<const std::uint8_t> bytes) noexcept;
/// CRC-32 (IEEE) as zlib computes it; seed 0 to start.
[[nodiscard]] std::uint32_t crc32(std::uint32_t seed, std::span<const std::uint8_t> bytes) noexcept;

[[nodiscard]] std::string hex(std::span<const std::uint8_t> bytes, std::string_view between = " ");
/// "1a1a0f00-11a0-4a01-8a01-0a1b2c3d4e01" from 16 bytes in the order written.
[[nodiscard]] std::string uuid_text(std::span<const std::uint8_t, 16> bytes);
/// The same from 16 bytes in the order in which GPT, UEFI and Windows store it: the first three parts are
/// little-endian.
[[nodiscard]] std::string guid_text(std::span<const std::uint8_t, 16> bytes);
/// "2026-01-31 12:00:00 UTC" from seconds since 1970.
[[nodiscard]] std::string utc_text(std::int64_t seconds);
/// "44.0 MiB"; exact bytes below 1 KiB.
[[nodiscard]] std::string size_text(std::uint64_t bytes);
/// A name or text as it was found, printable: control bytes, bytes that are not UTF-8, and characters that are not seen
/// but turn others around (U+202E and its kind) become \xNN; backslashes that stand where an escape would are doubled.
[[nodiscard]] std::string printable(std::string_view text);
/// A sentence made here, which may hold printable names: the same, but its backslashes stay as they are.
[[nodiscard]] std::string shown(std::string_view text);
/// With ASCII's capital letters made small.
[[nodiscard]] std::string lower_text(std::string_view text);
/// Runs of at least `least` printable ASCII characters.
[[nodiscard]] std::vector<std::string> messages_in(std::span<const std::uint8_t> bytes, std::size_t least = 4);

}  // namespace herberge
