// SPDX-License-Identifier: MIT
// x86 Linux kernels. Sources: Linux Documentation/x86/boot.rst, arch/x86/boot/header.S, arch/x86/boot/tools/build.c.
#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include <herberge/artifact.hpp>
#include <herberge/signature.hpp>

#include "artifact/kernels.hpp"
#include "ondisk/linux.hpp"
#include "ondisk/pe.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t setup_at = 0x1F1;
constexpr std::uint64_t most_unpacked = std::uint64_t{1} << 30U;

/// The fields a signing tool changes after the build: PE checksum and the certificate table's directory entry.
void clear_signed_fields(std::span<std::uint8_t> head) {
    if (head.size() < sizeof(ondisk::DosHead)) return;
    const std::size_t pe = ondisk::from_bytes<ondisk::DosHead>(head).pe_at;
    if (pe > head.size() || head.size() - pe < 24 + 152 || head[pe] != 'P' || head[pe + 1] != 'E') return;
    const std::size_t optional = pe + sizeof(ondisk::PeFileHeader);
    const bool plus = ondisk::from_bytes<ondisk::PeOptional>(head, optional).magic == 0x20B;
    const std::size_t directory = optional + sizeof(ondisk::PeOptional) +
                                  (plus ? sizeof(ondisk::PeOptionalTail64) : sizeof(ondisk::PeOptionalTail32)) +
                                  4 * sizeof(ondisk::PeDirectory);
    std::fill_n(head.begin() + static_cast<std::ptrdiff_t>(optional + offsetof(ondisk::PeOptional, checksum)), 4,
                std::uint8_t{0});
    std::fill_n(head.begin() + static_cast<std::ptrdiff_t>(directory), 8, std::uint8_t{0});
}

/// Up to Linux 6.14 the build stores, as the image's last four bytes, a CRC-32 (no final inversion) over the rest.
bool crc_holds(const ByteSource& file, std::uint64_t end,
               const std::function<void(std::span<std::uint8_t>)>& mend = {}) {
    if (end < 1024 || end > file.size()) return false;
    constexpr std::uint64_t step = std::uint64_t{256} << 10U;
    const auto stored = file.load<ondisk::little_uint32_t>(end - 4);
    if (!stored) return false;
    std::uint32_t sum = 0;
    for (std::uint64_t at = 0; at < end - 4; at += step) {
        auto part = file.bytes(at, std::min(step, end - 4 - at));
        if (!part) return false;
        if (at == 0 && mend) mend(*part);
        if (at == 0) clear_signed_fields(*part);
        sum = crc32(sum, *part);
    }
    return (sum ^ 0xFFFFFFFFU) == *stored;
}

/// Marks of the head that not every loader looks at. With them put back the CRC-32 holds: nothing else was changed.
/// Names the marks; empty: that is not it.
std::string crc_holds_but_for_marks(const ByteSource& file, std::uint64_t end) {
    struct Mark {
        std::string_view name, bytes;
        std::size_t at;
    };
    const auto dos = file.load<ondisk::DosHead>(0);
    const std::size_t pe_at = dos && dos->pe_at < 0x1000 ? std::size_t{dos->pe_at} : 0;
    const Mark marks[] = {{"55AA", std::string_view("\x55\xAA", 2), 0x1FE},
                          {"HdrS", "HdrS", 0x202},
                          {"PE", std::string_view("PE\0\0", 4), pe_at},
                          {"MZ", "MZ", 0}};
    // First those of every kernel, then those of one with an EFI stub.
    for (const std::size_t count : {2U, 3U, 4U}) {
        if (count > 2 && pe_at == 0) break;
        std::string changed;
        const bool holds = crc_holds(file, end, [&](std::span<std::uint8_t> head) {
            for (const auto& mark : std::span(marks).first(count)) {
                if (mark.at + mark.bytes.size() > head.size()) continue;
                const auto from = head.begin() + static_cast<std::ptrdiff_t>(mark.at);
                if (std::equal(mark.bytes.begin(), mark.bytes.end(), from,
                               [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; }))
                    continue;
                std::transform(mark.bytes.begin(), mark.bytes.end(), from,
                               [](char c) { return static_cast<std::uint8_t>(c); });
                changed += fmt::format("{}{}", changed.empty() ? "" : " and ", mark.name);
            }
        });
        if (holds && !changed.empty()) return changed;
    }
    return {};
}

/// "6.1.0-1-amd64" is below 6.15, the first version whose build adds no CRC-32.
bool build_adds_crc(std::string_view release) {
    unsigned major = 0;
    unsigned minor = 0;
    const char* end = release.data() + release.size();
    const auto first = std::from_chars(release.data(), end, major);
    if (first.ec != std::errc{} || first.ptr == end || *first.ptr != '.') return false;
    if (std::from_chars(first.ptr + 1, end, minor).ec != std::errc{}) return false;
    return major < 6 || (major == 6 && minor < 15);
}

/// The list of places to relocate behind the unpacked kernel, as the kernel walks it (arch/x86/boot/compressed/misc.c,
/// handle_relocations): 32-bit words, all inside the kernel, with zeros between three sorts. `tail` are the last bytes
/// of `size` unpacked ones. None: sound, or there is no list.
std::optional<Error> relocation_problem(std::span<const std::uint8_t> head, std::span<const std::uint8_t> tail,
                                        std::uint64_t size, const std::string& place) {
    if (head.size() < sizeof(ondisk::Elf64) || head[4] != 2) return std::nullopt;
    const auto elf = ondisk::from_bytes<ondisk::Elf64>(head);
    const std::uint64_t end = elf.section_offset + std::uint64_t{elf.section_count} * elf.section_entry_size;
    if (elf.section_offset == 0 || end > size || size - end <= 4 || size - end > tail.size()) return std::nullopt;
    std::uint64_t lowest = ~std::uint64_t{0};
    std::uint64_t highest = 0;
    for (unsigned i = 0; i < elf.program_count; ++i) {
        const std::uint64_t at = elf.program_offset + std::uint64_t{i} * elf.program_entry_size;
        if (at + sizeof(ondisk::Elf64Program) > head.size()) return std::nullopt;
        const auto program = ondisk::from_bytes<ondisk::Elf64Program>(head, static_cast<std::size_t>(at));
        constexpr std::uint32_t load = 1;
        if (program.type != load || program.virtual_address < 0xFFFFFFFF80000000U)
            continue;  // the per-CPU area lies at 0
        lowest = std::min<std::uint64_t>(lowest, program.virtual_address);
        highest = std::max<std::uint64_t>(highest, program.virtual_address + program.memory_size);
    }
    if (highest == 0) return std::nullopt;
    const auto list = tail.subspan(tail.size() - static_cast<std::size_t>(size - end));
    const std::size_t first = list.size() % 4;
    for (std::size_t at = first; at + 4 <= list.size(); at += 4) {
        const std::uint32_t word = ondisk::from_bytes<ondisk::little_uint32_t>(list, at);
        const auto address = static_cast<std::uint64_t>(static_cast<std::int64_t>(static_cast<std::int32_t>(word)));
        if (word == 0 || (address >= lowest && address <= highest)) continue;
        return Error{ErrorKind::Malformed, "its list of relocations leads outside the kernel", place,
                     fmt::format("{:x} to {:x}", lowest, highest),
                     fmt::format("{:x} at byte {} of the unpacked kernel", address, end + at)};
    }
    return std::nullopt;
}

bool has_own_check(Compression kind) {
    return kind == Compression::Gzip || kind == Compression::Xz || kind == Compression::Bzip2 ||
           kind == Compression::Zstd;
}

void judge_payload(const ByteSource& file, const ondisk::LinuxSetup& setup, KernelImage& out) {
    const std::uint64_t start = std::uint64_t{out.setup_sectors + 1} * 512;
    const std::uint64_t at = start + setup.payload_offset;
    const std::uint64_t length = setup.payload_length;
    auto tell = [&](Soundness soundness, std::string text, Evidence evidence) {
        out.soundness = soundness;
        out.soundness_text = std::move(text);
        out.evidence.push_back(std::move(evidence));
    };
    // The size counts units of 16 bytes: what builds other programs in this format need not fill the last one.
    if (out.file_size + 16 <= out.expected_size) {
        tell(Soundness::Cut,
             fmt::format("the kernel file is cut short by {}", size_text(out.expected_size - out.file_size)),
             evidence_place(file.place(), fmt::format("{} bytes", out.expected_size),
                            fmt::format("{} bytes", out.file_size)));
        return;
    }
    if (out.other_program) {
        tell(Soundness::Sound, "a program in a Linux kernel's format, whole by its size; it is no Linux",
             evidence_bytes(file, setup_at, 16, {}, fmt::format("{} bytes by its header", out.expected_size)));
        return;
    }
    if (out.protocol < 0x0208 || length < 8 || at + length > file.size()) {
        tell(Soundness::Unknown, "its header does not say where the compressed kernel lies",
             evidence_place(file.place()));
        return;
    }
    const auto magic = file.bytes(at, 8);
    if (magic) out.payload = recognise_compression(*magic);
    out.crc_matches = crc_holds(file, out.expected_size);
    if (out.crc_matches) {
        tell(Soundness::Sound, fmt::format("whole: the build's CRC-32 over {} matches", size_text(out.expected_size)),
             evidence_bytes(file, out.expected_size - 4, 4));
        return;
    }
    if (const auto marks = crc_holds_but_for_marks(file, out.expected_size); !marks.empty()) {
        tell(Soundness::Sound,
             fmt::format("whole but for the mark {}, which this way to start it does not look at: with it put back the "
                         "build's CRC-32 matches",
                         marks),
             evidence_bytes(file, out.expected_size - 4, 4));
        return;
    }
    out.changed_since_build = build_adds_crc(out.release);
    // Signing changes the head, and the signature covers all of it.
    if (out.changed_since_build && out.efi_stub) {
        const auto signatures = image_signatures(file);
        if (std::ranges::any_of(signatures, [](const ImageSignature& s) { return s.digest_matches; })) {
            out.changed_since_build = false;
            tell(Soundness::Sound, "whole: the digest in its signature matches",
                 evidence_place(file.place(), {}, "the digest in its signature"));
            return;
        }
    }
    if (out.payload == Compression::None) {
        tell(Soundness::Damaged, "the compressed kernel does not begin like any known format",
             evidence_bytes(file, at, 8, "a compression's mark", magic ? hex(*magic) : std::string("unreadable")));
        return;
    }
    // The last four bytes of the payload give the unpacked size (scripts/Makefile.lib, size_append; gzip has it
    // anyway).
    const auto promised = file.load<ondisk::little_uint32_t>(at + length - 4);
    std::vector<std::uint8_t> head;
    std::vector<std::uint8_t> tail;
    constexpr std::size_t most_head = 4096;
    constexpr std::size_t most_tail = std::size_t{8} << 20U;
    const std::uint64_t packed = out.payload == Compression::Gzip ? length : length - 4;
    const auto done = unpack(out.payload, file, at, packed, most_unpacked, [&](std::span<const std::uint8_t> piece) {
        if (head.size() < most_head)
            head.insert(head.end(), piece.begin(),
                        piece.begin() + static_cast<std::ptrdiff_t>(std::min(most_head - head.size(), piece.size())));
        tail.insert(tail.end(), piece.begin(), piece.end());
        if (tail.size() > 2 * most_tail) tail.erase(tail.begin(), tail.end() - static_cast<std::ptrdiff_t>(most_tail));
        return true;
    });
    if (!done) {
        tell(Soundness::Damaged, "the compressed kernel cannot be unpacked: " + done.error().what,
             evidence_error(done.error()));
        return;
    }
    if (promised && done->produced != *promised) {
        tell(Soundness::Damaged, "the compressed kernel unpacks to the wrong size",
             evidence_bytes(file, at + length - 4, 4, fmt::format("{} bytes", static_cast<std::uint32_t>(*promised)),
                            fmt::format("{} bytes", done->produced)));
        return;
    }
    if (!looks_like_elf(head)) {
        tell(Soundness::Damaged, "what the compressed kernel unpacks to is no ELF file",
             evidence_bytes(file, at, length, "7f 45 4c 46",
                            hex(std::span(head).first(std::min<std::size_t>(4, head.size())))));
        return;
    }
    if (const auto problem = relocation_problem(head, tail, done->produced, file.place())) {
        tell(Soundness::Damaged, problem->what, evidence_error(*problem));
        out.relocations_bad = true;
        return;
    }
    const std::string unpacks =
        fmt::format("its {} payload unpacks to {}", compression_name(out.payload), size_text(done->produced));
    const bool checked = has_own_check(out.payload);
    if (checked && !out.changed_since_build)
        tell(Soundness::Sound, unpacks + " and its check matches", evidence_bytes(file, at, length));
    else if (!out.changed_since_build)
        tell(Soundness::Unknown, unpacks + "; that format carries no check, and the image has none",
             evidence_bytes(file, at, length));
    else
        tell(Soundness::Unknown,
             checked ? unpacks +
                           " and its check matches, but the build's CRC-32 over the whole image does not: something "
                           "outside the payload was changed"
                     : unpacks + ", but that format carries no check and the build's CRC-32 does not match",
             evidence_bytes(file, out.expected_size - 4, 4, "the build's CRC-32", "another"));
}

/// The set-up code checks its own last mark before it goes on (arch/x86/boot/header.S, setup_sig), and its entry is a
/// jump.
void judge_setup(const ByteSource& file, KernelImage& out) {
    if (out.crc_matches || out.other_program) return;
    const std::uint64_t length = std::uint64_t{out.setup_sectors + 1} * 512;
    const auto code = file.bytes(0, std::min(length, file.size()));
    if (!code || code->size() < 0x210) return;
    if ((*code)[0x200] != 0xEB) {
        out.setup_damage = Error{ErrorKind::Malformed, "its set-up code does not begin with a jump", file.place(), "eb",
                                 hex(std::span(*code).subspan(0x200, 1))};
        return;
    }
    static constexpr std::array<std::uint8_t, 4> mark = {0x55, 0xAA, 0x5A, 0x5A};
    if (std::search(code->begin() + 0x210, code->end(), mark.begin(), mark.end()) == code->end())
        out.setup_damage = Error{ErrorKind::Malformed, "its set-up code has lost the mark that it looks for itself",
                                 file.place(), "55 aa 5a 5a", "absent"};
}

}  // namespace

bool is_bz_image(const ByteSource& file) {
    const auto setup = file.load<ondisk::LinuxSetup>(setup_at);
    return setup && (setup->boot_flag == 0xAA55 || std::memcmp(setup->header.data(), "HdrS", 4) == 0);
}

Result<bool> kernel_mentions(const ByteSource& file, const KernelImage& image, std::string_view words) {
    if (image.processor == Processor::Arm) return zimage_mentions(file, words);
    if (image.processor != Processor::X86) return flat_image_mentions(file, words);
    const auto setup = file.load<ondisk::LinuxSetup>(setup_at);
    if (!setup) return tl::unexpected(setup.error());
    const std::uint64_t at = std::uint64_t{image.setup_sectors + 1} * 512 + setup->payload_offset;
    const std::uint64_t length = setup->payload_length;
    if (image.payload == Compression::None || length < 8 || at + length > file.size())
        return fail(ErrorKind::Unsupported, "the compressed kernel is not found", file.place());
    const std::uint64_t packed = image.payload == Compression::Gzip ? length : length - 4;
    std::string held;
    bool found = false;
    const auto done = unpack(image.payload, file, at, packed, most_unpacked, [&](std::span<const std::uint8_t> piece) {
        held.append(piece.begin(), piece.end());
        found = held.find(words) != std::string::npos;
        if (held.size() > words.size()) held.erase(0, held.size() - words.size());
        return !found;
    });
    if (!found && !done) return tl::unexpected(done.error());
    return found;
}

namespace {

std::string version_text(const ByteSource& file, const ondisk::LinuxSetup& setup) {
    const std::uint64_t at = std::uint64_t{setup.kernel_version} + 0x200;
    if (setup.kernel_version == 0 || at >= file.size()) return {};
    const auto text = file.bytes(at, std::min<std::uint64_t>(256, file.size() - at));
    return text ? printable(std::string(text->begin(), std::ranges::find(*text, std::uint8_t{0}))) : std::string{};
}

/// Linux says who built it and which build it is: "6.1.0-1 (someone@host) #1 SMP …" (arch/x86/boot/version.c). What
/// other programs say is shorter, and none of them has a compressed kernel for its set-up code to unpack.
bool other_program(const ondisk::LinuxSetup& setup, const std::string& version) {
    const bool compressed = setup.version >= 0x0208 && (setup.payload_length != 0 || setup.payload_offset != 0);
    return !compressed && !version.empty() && version.find(") #") == std::string::npos && setup.boot_flag == 0xAA55 &&
           std::memcmp(setup.header.data(), "HdrS", 4) == 0;
}

/// The first error of the medium in a file that a loader reads to its end.
std::optional<Error> unreadable_part(const ByteSource& file) {
    constexpr std::uint64_t step = std::uint64_t{1} << 20U;
    for (std::uint64_t at = 0; at < file.size(); at += step)
        if (const auto part = file.bytes(at, std::min(step, file.size() - at)); !part) return part.error();
    return std::nullopt;
}

}  // namespace

bool is_other_program(const ByteSource& file) {
    const auto setup = file.load<ondisk::LinuxSetup>(setup_at);
    return setup && other_program(*setup, version_text(file, *setup));
}

Result<KernelImage> inspect_bz_image(const ByteSource& file, KernelEntry entry) {
    KernelImage out;
    out.file_size = file.size();
    if (file.size() < setup_at + sizeof(ondisk::LinuxSetup)) {
        out.soundness = Soundness::Cut;
        out.soundness_text = "the file is too short to be a kernel";
        out.evidence.push_back(evidence_place(file.place(), "at least 1 KiB", size_text(file.size())));
        return out;
    }
    const auto setup = file.load<ondisk::LinuxSetup>(setup_at);
    if (!setup) return tl::unexpected(setup.error());
    out.boot_flag = setup->boot_flag == 0xAA55;
    out.setup_header = std::memcmp(setup->header.data(), "HdrS", 4) == 0;
    out.setup_sectors = setup->setup_sectors == 0 ? 4U : setup->setup_sectors;
    if (entry != KernelEntry::Efi && (!out.boot_flag || !out.setup_header)) {
        out.soundness = Soundness::Damaged;
        out.soundness_text =
            out.boot_flag ? "no set-up header where a kernel has one" : "the file does not begin like a kernel";
        out.evidence.push_back(out.boot_flag ? evidence_bytes(file, 0x202, 4, "48 64 72 53 (HdrS)", hex(setup->header))
                                             : evidence_bytes(file, 0x1FE, 2, "55 aa"));
        return out;
    }
    out.protocol = setup->version;
    out.loads_high = (setup->load_flags & 1U) != 0;
    out.relocatable = out.protocol >= 0x0205 && setup->relocatable != 0;
    out.entry64 = out.protocol >= 0x020C && (setup->extended_flags & 1U) != 0;
    out.expected_size = std::uint64_t{out.setup_sectors + 1} * 512 + std::uint64_t{setup->system_size} * 16;
    if (const auto dos = file.load<ondisk::DosHead>(0); dos && dos->pe_at < 0x400) {
        const auto mark = file.bytes(dos->pe_at, 4);
        out.efi_stub = mark && dos->mark[0] == 'M' && dos->mark[1] == 'Z' && (*mark)[0] == 'P' && (*mark)[1] == 'E';
    }
    out.version = version_text(file, *setup);
    out.release = out.version.substr(0, out.version.find(' '));
    out.other_program = other_program(*setup, out.version);
    judge_payload(file, *setup, out);
    // A check that failed because the medium does not give the bytes tells nothing about them.
    if (!out.crc_matches)
        if (auto error = unreadable_part(file); error && error->unreadable()) return tl::unexpected(std::move(*error));
    judge_setup(file, out);
    return out;
}

}  // namespace herberge
