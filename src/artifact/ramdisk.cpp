// SPDX-License-Identifier: MIT
// RAM disks as the kernel unpacks them (Linux init/initramfs.c,
// Documentation/driver-api/early-userspace/buffer-format).
#include <fmt/format.h>
#include <algorithm>
#include <charconv>
#include <set>

#include <herberge/artifact.hpp>

namespace herberge {

namespace {

constexpr std::size_t most_files = 200000;
constexpr std::size_t most_members = 10000;
constexpr std::uint64_t most_kept = 256U << 10U;
constexpr std::uint64_t most_program = std::uint64_t{16} << 20U;

/// What a whole RAM disk may cost, however many archives it has.
struct Allowance {
    std::uint64_t unpacked = std::uint64_t{1} << 30U;
    std::uint64_t kept = std::uint64_t{8} << 20U;  ///< bytes of file contents
    explicit Allowance(std::uint64_t packed) {
        // What is packed denser than this is no file system of a Linux.
        constexpr std::uint64_t floor = std::uint64_t{64} << 20U;
        constexpr std::uint64_t ratio = 40;
        if (packed < (unpacked - floor) / ratio) unpacked = floor + packed * ratio;
    }
};
constexpr std::size_t header_size = 110;
/// How a signed kernel module ends (scripts/sign-file.c).
constexpr std::string_view module_mark = "~Module signature appended~\n";

/// Small files whose content steers the start.
bool worth_keeping(std::string_view name) {
    return name == "init" || name == "etc/ld.so.cache" || name == "etc/modules" || name == "conf/modules" ||
           name == "conf/initramfs.conf" || name == "etc/initrd-release" || name == "etc/fstab" ||
           name.starts_with("conf/conf.d/") || name == "conf/param.conf" || name.starts_with("etc/cmdline.d/") ||
           name == "etc/crypttab" || name == "cryptroot/crypttab" || name == "etc/lvm/lvm.conf" ||
           name == "etc/lvm/lvmlocal.conf" || name == "etc/lvm/devices/system.devices" || name == "etc/machine-id" ||
           name.starts_with("cryptroot/keyfiles/") || name.ends_with(".key") || name.ends_with("keyfile") ||
           name == "crypto_keyfile.bin" || name.find("modprobe.d/") != std::string_view::npos ||
           name.find("modules-load.d/") != std::string_view::npos || name.ends_with("/modules.builtin");
}

std::string clean_name(std::string_view name) {
    while (name.starts_with("./") || name.starts_with("/")) name.remove_prefix(name.front() == '/' ? 1 : 2);
    return name == "." ? std::string{} : std::string(name);
}

/// A push parser for "newc" archives: bytes come in pieces of any size.
class CpioReader {
public:
    CpioReader(Ramdisk& out, Allowance& allowance) : out_(out), allowance_(allowance) {}

    /// Takes bytes; false at damage or when the archive has ended.
    bool take(std::span<const std::uint8_t> bytes) {
        for (;;) {
            if (state_ == State::Body) {
                const auto part = static_cast<std::size_t>(std::min<std::uint64_t>(bytes.size(), body_left_));
                const std::size_t last = std::min(part, module_mark.size());
                tail_.append(reinterpret_cast<const char*>(bytes.data()) + (part - last), last);
                if (tail_.size() > module_mark.size()) tail_.erase(0, tail_.size() - module_mark.size());
                if (kept_ != nullptr) kept_->append(reinterpret_cast<const char*>(bytes.data()), part);
                if (may_be_program_) gather_program(bytes.first(part));
                bytes = bytes.subspan(part);
                body_left_ -= part;
                total_ += part;
                if (body_left_ > 0) return true;
                end_body();
            }
            if (state_ == State::Ended || state_ == State::Broken) return false;
            // A pad, a header or a name: gather until whole.
            const std::size_t part = std::min(bytes.size(), need_ - gathered_.size());
            gathered_.append(reinterpret_cast<const char*>(bytes.data()), part);
            bytes = bytes.subspan(part);
            total_ += part;
            if (gathered_.size() < need_) return true;
            advance();
        }
    }
    [[nodiscard]] bool ended() const { return state_ == State::Ended; }
    [[nodiscard]] bool broken() const { return state_ == State::Broken; }
    [[nodiscard]] const std::string& message() const { return message_; }
    [[nodiscard]] std::size_t files() const { return files_; }
    [[nodiscard]] std::uint64_t total() const { return total_; }
    [[nodiscard]] bool only_early() const { return files_ > 0 && !saw_other_; }
    /// Between two files: nothing is missing if the input ends here.
    [[nodiscard]] bool at_boundary() const {
        return state_ == State::Pad || (state_ == State::Header && gathered_.empty());
    }
    void mark_cut() {
        if (state_ == State::Body && !name_.empty())
            if (auto found = out_.files.find(name_); found != out_.files.end()) found->second.complete = false;
    }

private:
    /// Programs and libraries are looked at as ELF files and forgotten again.
    void gather_program(std::span<const std::uint8_t> part) {
        program_.insert(program_.end(), part.begin(), part.end());
        if (program_.size() >= 4 && !looks_like_elf(program_)) may_be_program_ = false;
    }
    void end_program() {
        if (!std::exchange(may_be_program_, false) || program_.size() < 4) return;
        const auto elf = inspect_elf(*memory_source(std::exchange(program_, {}), "RAM disk:/" + name_));
        if (const auto file = out_.files.find(name_); elf && file != out_.files.end())
            file->second.elf = std::make_shared<const ElfInfo>(*elf);
    }

    enum class State : std::uint8_t { Header, Name, Body, Pad, Ended, Broken };

    void expect(State state, std::size_t count) {
        state_ = state;
        need_ = count;
        gathered_.clear();
        if (count == 0) advance();
    }
    void expect_pad(State after, std::size_t after_count) {
        after_ = after;
        after_count_ = after_count;
        expect(State::Pad, static_cast<std::size_t>((4 - total_ % 4) % 4));
    }
    void damage(std::string message) {
        state_ = State::Broken;
        message_ = std::move(message);
    }
    std::uint32_t number(std::size_t field) const {
        std::uint32_t value = 0;
        const char* from = gathered_.data() + 6 + field * 8;
        const auto [end, error] = std::from_chars(from, from + 8, value, 16);
        return error == std::errc{} && end == from + 8 ? value : 0xFFFFFFFFU;
    }

    void advance() {
        switch (state_) {
            case State::Header: header(); break;
            case State::Name: name(); break;
            case State::Pad: expect(after_, after_count_); break;
            case State::Body:
            case State::Ended:
            case State::Broken: break;
        }
    }
    void header() {
        if (gathered_.substr(0, 6) != "070701" && gathered_.substr(0, 6) != "070702") {
            damage(gathered_.starts_with("070707") ? "incorrect cpio method used: use -H newc option"
                                                   : "no cpio magic");
            return;
        }
        mode_ = number(1);
        size_ = number(6);
        const std::uint32_t name_size = number(11);
        if (name_size == 0 || name_size > 4097 || (++files_, out_.files.size() > most_files)) {
            damage("malformed archive");
            return;
        }
        expect(State::Name, name_size);
    }
    void name() {
        name_ = gathered_.substr(0, gathered_.find('\0'));
        if (name_ == "TRAILER!!!") {
            --files_;
            state_ = State::Ended;
            return;
        }
        name_ = clean_name(name_);
        if (!name_.empty() && !name_.starts_with("kernel/") && name_ != "kernel") saw_other_ = true;
        kept_ = nullptr;
        if (!name_.empty()) {
            auto& file = out_.files[name_];
            file = RamdiskFile{};
            file.mode = mode_;
            file.size = size_;
            if ((mode_ & 0170000U) == 0120000U) kept_ = &file.target;
            else if (size_ <= most_kept && worth_keeping(name_)) kept_ = &file.content;
            if (kept_ != nullptr && (size_ > most_kept || size_ > allowance_.kept)) kept_ = nullptr;
            if (kept_ != nullptr) allowance_.kept -= size_;
            const bool regular = (mode_ & 0170000U) == 0100000U;
            program_.clear();
            may_be_program_ = regular && size_ <= most_program && name_.find(".ko") == std::string::npos &&
                              (file.executable() || name_.find(".so") != std::string::npos);
        }
        body_left_ = size_;
        // Between name and body lies a pad; a body of any size may follow.
        const auto pad = static_cast<std::size_t>((4 - total_ % 4) % 4);
        after_ = State::Body;
        after_count_ = 0;
        if (pad == 0) begin_body();
        else {
            state_ = State::Pad;
            need_ = pad;
            gathered_.clear();
        }
    }
    void begin_body() {
        state_ = State::Body;
        tail_.clear();
        if (body_left_ == 0) end_body();
    }
    void end_body() {
        kept_ = nullptr;
        end_program();
        if (tail_ == module_mark)
            if (const auto file = out_.files.find(name_); file != out_.files.end()) file->second.ends_signed = true;
        expect_pad(State::Header, header_size);
    }

    Ramdisk& out_;
    Allowance& allowance_;
    bool may_be_program_ = false;
    std::vector<std::uint8_t> program_;
    State state_ = State::Header;
    State after_ = State::Header;
    std::size_t after_count_ = header_size;
    std::size_t need_ = header_size;
    std::string gathered_;
    std::string name_;
    std::string message_;
    std::string* kept_ = nullptr;
    std::string tail_;
    std::uint32_t mode_ = 0;
    std::uint32_t size_ = 0;
    std::uint64_t body_left_ = 0;
    std::uint64_t total_ = 0;
    std::size_t files_ = 0;
    bool saw_other_ = false;
};

/// Walks the archives one behind the other.
class Unpacker {
public:
    Unpacker(const ByteSource& file, Ramdisk& out) : file_(file), out_(out), allowance_(file.size()) {}

    void run() {
        std::uint64_t at = 0;
        while (at < file_.size()) {
            std::array<std::uint8_t, 8> head{};
            const auto part = std::min<std::uint64_t>(head.size(), file_.size() - at);
            if (auto done = file_.read(at, std::span(head).first(static_cast<std::size_t>(part))); !done) {
                damage(done.error(), {});
                return;
            }
            if (head[0] == 0) {
                at += zeros_from(at);
                continue;
            }
            const auto used = member(at, std::span(head).first(static_cast<std::size_t>(part)));
            if (!used) return;
            at += *used;
        }
    }

private:
    void damage(Error error, const std::string& kernel_says) {
        out_.damage = std::move(error);
        if (!kernel_says.empty()) out_.kernel_message = "Initramfs unpacking failed: " + kernel_says;
    }
    [[nodiscard]] std::uint64_t zeros_from(std::uint64_t at) const {
        std::array<std::uint8_t, 4096> block{};
        std::uint64_t count = 0;
        while (at + count < file_.size()) {
            const auto part =
                static_cast<std::size_t>(std::min<std::uint64_t>(block.size(), file_.size() - at - count));
            if (!file_.read(at + count, std::span(block).first(part))) return std::max<std::uint64_t>(count, 1);
            const auto first = std::find_if(block.begin(), block.begin() + static_cast<std::ptrdiff_t>(part),
                                            [](auto b) { return b != 0; });
            count += static_cast<std::uint64_t>(first - block.begin());
            if (first != block.begin() + static_cast<std::ptrdiff_t>(part)) break;
        }
        return count;
    }

    void too_large(std::uint64_t at) {
        out_.too_large = true;
        damage(Error{ErrorKind::TooLarge,
                     "it unpacks to more than is looked at here",
                     fmt::format("{}, byte {}", file_.place(), at),
                     {},
                     {}},
               {});
    }

    std::optional<std::uint64_t> member(std::uint64_t at, std::span<const std::uint8_t> head) {
        if (out_.members.size() >= most_members || allowance_.unpacked == 0) {
            too_large(at);
            return std::nullopt;
        }
        RamdiskMember info;
        info.offset = at;
        info.compression = recognise_compression(head);
        const bool plain = head[0] == '0' && at % 4 == 0;
        if (!plain && info.compression == Compression::None) {
            damage(
                Error{ErrorKind::Malformed, "neither an archive nor a known compression begins here",
                      fmt::format("{}, byte {}", file_.place(), at), "a cpio archive or a compressed one", hex(head)},
                at == 0 ? "invalid magic at start of compressed archive" : "junk within compressed archive");
            return std::nullopt;
        }
        std::optional<CpioReader> holder(std::in_place, out_, allowance_);
        std::uint64_t length = 0;
        std::optional<Error> failed;
        if (plain) info.compression = Compression::None;
        // A compressed member may hold several archives with zeros between them, too.
        bool between = false;
        std::uint64_t unpacked = 0;
        auto sink = [&](std::span<const std::uint8_t> piece) {
            unpacked += piece.size();
            while (!piece.empty()) {
                if (between) {
                    const auto next = std::ranges::find_if(piece, [](auto b) { return b != 0; });
                    piece = piece.subspan(static_cast<std::size_t>(next - piece.begin()));
                    if (piece.empty()) return true;
                    info.files += holder->files();
                    info.early = info.early || holder->only_early();
                    holder.emplace(out_, allowance_);
                    between = false;
                }
                const std::uint64_t before = holder->total();
                if (holder->take(piece)) return true;
                if (holder->broken()) return false;
                piece = piece.subspan(static_cast<std::size_t>(holder->total() - before));
                between = true;
                if (plain) return false;
            }
            return true;
        };
        const auto done = unpack(info.compression, file_, at, file_.size() - at, allowance_.unpacked, sink);
        length = plain ? holder->total() : done ? done->consumed : 0;
        if (!done) failed = done.error();
        info.length = length;
        info.unpacked = plain ? holder->total() : unpacked;
        allowance_.unpacked -= std::min(allowance_.unpacked, std::max<std::uint64_t>(info.unpacked, 4096));
        if (failed && failed->kind == ErrorKind::TooLarge) {
            too_large(at);
            return std::nullopt;
        }
        info.files += holder->files();
        info.early = holder->only_early();
        out_.members.push_back(info);
        if (holder->broken()) {
            damage(Error{ErrorKind::Malformed,
                         fmt::format("the archive is damaged: {}", holder->message()),
                         fmt::format("{}, member at byte {}", file_.place(), at),
                         {},
                         {}},
                   holder->message());
            return std::nullopt;
        }
        if (failed && failed->kind == ErrorKind::Checksum) {
            damage(*failed, {});  // the kernel does not look at this sum (lib/decompress_inflate.c)
            return std::nullopt;
        }
        if (failed) {
            holder->mark_cut();
            if (failed->unreadable()) {
                damage(*failed, {});
                return std::nullopt;
            }
            const bool cut = failed->kind == ErrorKind::OutOfRange;
            damage(*failed, cut                                     ? "read error"
                            : info.compression == Compression::Zstd ? "ZSTD-compressed data is corrupt"
                                                                    : "decompressor failed");
            return std::nullopt;
        }
        if (!holder->ended() && !between && !holder->at_boundary()) {
            holder->mark_cut();
            // A plain archive that just stops is no error for the kernel; the last file is short.
            damage(Error{ErrorKind::OutOfRange,
                         "the archive ends inside a file",
                         fmt::format("{}, byte {}", file_.place(), file_.size()),
                         {},
                         {}},
                   {});
            return std::nullopt;
        }
        return std::max<std::uint64_t>(length, 1);
    }

    const ByteSource& file_;
    Ramdisk& out_;
    Allowance allowance_;
};

void collect_modules(Ramdisk& out) {
    std::set<std::string> modules;
    std::set<std::string> releases;
    for (const auto& [path, file] : out.files) {
        const auto name = std::string_view(path).substr(path.rfind('/') + 1);
        const auto ko = name.find(".ko");
        // Where they lie is the business of the RAM disk's own init; a module that the archive's end cut off cannot be
        // loaded.
        if (ko != std::string_view::npos && (ko + 3 == name.size() || name[ko + 3] == '.') && file.complete) {
            std::string stem(name.substr(0, ko));
            std::ranges::replace(stem, '-', '_');
            modules.insert(stem);
            // A compressed module carries its signature inside.
            if (ko + 3 == name.size() && !file.ends_signed) out.unsigned_modules.insert(stem);
        }
        const auto lib = path.find("lib/modules/");
        if (lib == std::string::npos || (lib != 0 && !path.starts_with("usr/"))) continue;
        const std::string rest = path.substr(lib + 12);
        const auto slash = rest.find('/');
        if (slash != std::string::npos && !rest.empty() && std::isdigit(static_cast<unsigned char>(rest[0])) != 0)
            releases.insert(rest.substr(0, slash));
    }
    out.modules.assign(modules.begin(), modules.end());
    out.module_releases.assign(releases.begin(), releases.end());
    if (out.files.contains("scripts/local") && out.files.contains("conf/initramfs.conf"))
        out.builder = "initramfs-tools";
    else if (out.files.contains("usr/lib/dracut-lib.sh") || out.files.contains("lib/dracut/build-parameter.txt") ||
             out.files.contains("usr/lib/dracut/build-parameter.txt"))
        out.builder = "dracut";
    else if (out.files.contains("init_functions") && out.files.contains("config")) out.builder = "mkinitcpio";
}

}  // namespace

const RamdiskFile* Ramdisk::find(std::string_view path) const {
    std::vector<std::string> done;
    std::vector<std::string> pending;
    auto push = [&](std::string_view text) {
        std::vector<std::string> parts;
        while (!text.empty()) {
            const auto slash = std::min(text.find('/'), text.size());
            if (slash > 0) parts.emplace_back(text.substr(0, slash));
            text.remove_prefix(std::min(slash + 1, text.size()));
        }
        pending.insert(pending.end(), parts.rbegin(), parts.rend());
    };
    push(path);
    const RamdiskFile* last = nullptr;
    for (int steps = 0; !pending.empty() && steps < 400; ++steps) {
        const std::string part = std::move(pending.back());
        pending.pop_back();
        if (part == ".") continue;
        if (part == "..") {
            if (!done.empty()) done.pop_back();
            continue;
        }
        std::string name;
        for (const auto& d : done) name += d + "/";
        name += part;
        const auto found = files.find(name);
        if (found == files.end()) return nullptr;
        if ((found->second.mode & 0170000U) == 0120000U) {
            if (found->second.target.starts_with('/')) done.clear();
            push(found->second.target);
            continue;
        }
        done.push_back(part);
        last = &found->second;
    }
    return pending.empty() ? last : nullptr;
}

bool Ramdisk::has_module(std::string_view name) const { return std::ranges::binary_search(modules, name); }

Result<Ramdisk> inspect_ramdisk(const ByteSource& file) {
    Ramdisk out;
    out.size = file.size();
    Unpacker(file, out).run();
    // Loaders read the file to its end: what the medium does not give is no damage of the archive's.
    if (out.damage && out.damage->unreadable()) return tl::unexpected(*out.damage);
    collect_modules(out);
    return out;
}

}  // namespace herberge
