// SPDX-License-Identifier: MIT
#include "artifact/libraries.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <deque>
#include <map>
#include <set>

#include "ondisk/linux.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_objects = 400;
constexpr std::size_t most_looks = 20'000;
constexpr std::uint64_t most_cache = std::uint64_t{8} << 20U;

class VolumeFiles final : public ProgramFiles {
public:
    VolumeFiles(const FileSystem& fs, std::string_view volume) : fs_(fs), volume_(volume) {}
    [[nodiscard]] std::optional<LibraryFile> find(const std::string& path) const override {
        const auto found = resolve(fs_, path);
        if (!found) {
            if (!found.error().unreadable()) return std::nullopt;
            return LibraryFile{path, 0, nullptr, found.error()};
        }
        if (found->file.type != FileType::Regular) return std::nullopt;
        LibraryFile out{found->path, found->file.size, nullptr, std::nullopt};
        const auto file = fs_.open(found->file.id, place(found->path));
        const auto elf = file ? inspect_elf(**file) : tl::unexpected(file.error());
        if (elf) out.elf = std::make_shared<const ElfInfo>(*elf);
        else out.problem = elf.error();
        return out;
    }
    [[nodiscard]] std::string content(const std::string& path) const override {
        return read_text_file(fs_, path, most_cache).value_or("");
    }
    [[nodiscard]] std::string place(std::string_view path) const override {
        return fmt::format("{}:{}", volume_, path);
    }

private:
    const FileSystem& fs_;
    std::string volume_;
};

class RamdiskFiles final : public ProgramFiles {
public:
    explicit RamdiskFiles(const Ramdisk& ramdisk) : ramdisk_(ramdisk) {}
    [[nodiscard]] std::optional<LibraryFile> find(const std::string& path) const override {
        const auto* file = ramdisk_.find(path);
        if (file == nullptr || file->is_directory()) return std::nullopt;
        LibraryFile out{path, file->size, file->complete ? file->elf : nullptr, std::nullopt};
        if (out.elf == nullptr) out.problem = Error{ErrorKind::Malformed, "not a whole ELF file", place(path), {}, {}};
        return out;
    }
    [[nodiscard]] std::string content(const std::string& path) const override {
        const auto* file = ramdisk_.find(path);
        return file != nullptr ? file->content : std::string{};
    }
    [[nodiscard]] std::string place(std::string_view path) const override { return fmt::format("RAM disk:{}", path); }

private:
    const Ramdisk& ramdisk_;
};

/// An object that is loaded, and through whom: RPATH is inherited.
struct Object {
    std::string path;
    std::shared_ptr<const ElfInfo> elf;
    std::shared_ptr<const Object> loader;
};

std::string directory_of(std::string_view path) { return std::string(path.substr(0, path.rfind('/'))); }

class Search {
public:
    Search(const ProgramFiles& files, const ElfInfo& program)
        : files_(files), program_(program), musl_(program.interpreter.find("ld-musl") != std::string::npos) {
        if (!musl_)
            for (auto& [name, path] : read_library_cache(files.content("/etc/ld.so.cache")))
                cache_[name].push_back(std::move(path));
    }

    std::optional<LibraryProblem> run(const std::string& path, std::vector<std::string>* got) {
        std::deque<std::shared_ptr<const Object>> pending{
            std::make_shared<const Object>(Object{path, std::make_shared<const ElfInfo>(program_), nullptr})};
        std::set<std::string, std::less<>> loaded{program_.interpreter.substr(program_.interpreter.rfind('/') + 1)};
        while (!pending.empty() && loaded.size() < most_objects) {
            const auto object = pending.front();
            pending.pop_front();
            for (const auto& name : object->elf->needed) {
                if (name.empty() || (musl_ && musl_itself(name)) || !loaded.insert(name).second) continue;
                LibraryProblem problem{
                    name, object->path, "cannot open shared object file: No such file or directory", false, {}};
                const auto found = look(name, object, problem);
                if (looks_ >= most_looks) return std::nullopt;
                if (!found) {
                    if (problem.evidence.place.empty())
                        problem.evidence = evidence_place(files_.place(object->path), "a library " + printable(name),
                                                          "in none of the places where it is looked for");
                    return problem;
                }
                if (got != nullptr) got->push_back(found->path);
                pending.push_back(std::make_shared<const Object>(Object{found->path, found->elf, object}));
            }
        }
        return std::nullopt;
    }

private:
    /// Names that musl's loader answers itself (ldso/dynlink.c, load_library).
    static bool musl_itself(std::string_view name) {
        static constexpr std::array<std::string_view, 7> own = {"libc.",  "libpthread.", "librt.",  "libm.",
                                                                "libdl.", "libutil.",    "libxnet."};
        return std::ranges::any_of(own, [&](std::string_view o) { return name.starts_with(o); });
    }

    /// A candidate as open_verify judges it: taken, passed over (another architecture), or an end with the loader's
    /// words.
    enum class Judged : std::uint8_t { Taken, PassedOver, Fatal };
    Judged judge(const LibraryFile& file, LibraryProblem& problem) const {
        auto end = [&](std::string words, std::string expected, std::string found) {
            problem.words = std::move(words);
            problem.evidence = evidence_place(files_.place(file.path), std::move(expected), std::move(found));
            return Judged::Fatal;
        };
        if (file.problem && file.problem->unreadable()) {
            problem.unreadable = true;
            return end("cannot read file data: Input/output error", "readable sectors", file.problem->text());
        }
        constexpr std::uint64_t header = 64;
        if (file.size < header) return end("file too short", "a shared library", size_text(file.size));
        if (file.elf == nullptr)
            return end("invalid ELF header", "a shared library",
                       file.problem ? file.problem->what : std::string("no ELF file"));
        if (file.elf->bits != program_.bits || file.elf->machine != program_.machine) {
            if (problem.evidence.place.empty()) {
                if (file.elf->bits != program_.bits)
                    problem.words = fmt::format("wrong ELF class: ELFCLASS{}", file.elf->bits);
                problem.evidence =
                    evidence_place(files_.place(file.path),
                                   fmt::format("{}-bit {}", program_.bits, elf_machine_name(program_.machine)),
                                   fmt::format("{}-bit {}", file.elf->bits, elf_machine_name(file.elf->machine)));
            }
            return Judged::PassedOver;
        }
        if (!file.elf->complete)
            return end(std::string(killed_at_the_end), "all segments inside the file", "cut short");
        return Judged::Taken;
    }

    std::optional<LibraryFile> look(const std::string& name, const std::shared_ptr<const Object>& object,
                                    LibraryProblem& problem) {
        bool over = false;
        std::optional<LibraryFile> out;
        auto try_path = [&](const std::string& path) {
            if (over || ++looks_ >= most_looks) return;
            auto file = files_.find(path);
            if (!file) return;
            const auto judged = judge(*file, problem);
            over = judged != Judged::PassedOver;
            if (judged == Judged::Taken) out = std::move(file);
        };
        if (name.find('/') != std::string::npos) {
            try_path(name);
            return out;
        }
        auto try_list = [&](std::string_view list, const Object& owner) {
            while (!list.empty() && !over) {
                const auto end = std::min(list.find(':'), list.size());
                if (end > 0)
                    for (const auto& directory : expanded(list.substr(0, end), owner))
                        try_directory(directory, name, try_path);
                list.remove_prefix(std::min(end + 1, list.size()));
            }
        };
        if (object->elf->runpath.empty() || musl_)
            for (auto owner = object; owner != nullptr; owner = owner->loader)
                if (owner->elf->runpath.empty() || musl_) try_list(owner->elf->rpath, *owner);
        try_list(object->elf->runpath, *object);
        if (const auto cached = cache_.find(name); cached != cache_.end())
            for (const auto& path : cached->second) try_path(path);
        for (const auto& directory : defaults()) try_directory(directory, name, try_path);
        return out;
    }

    template <class TryPath>
    static void try_directory(const std::string& directory, const std::string& name, TryPath&& try_path) {
        try_path(directory + "/" + name);
        for (const std::string_view level : {"x86-64-v2", "x86-64-v3", "x86-64-v4"})
            try_path(fmt::format("{}/glibc-hwcaps/{}/{}", directory, level, name));
    }

    /// $ORIGIN, $LIB and $PLATFORM; $LIB differs by distribution, so that there may be several.
    [[nodiscard]] std::vector<std::string> expanded(std::string_view written, const Object& owner) const {
        const auto put = [](std::string text, std::string_view word, std::string_view value) {
            for (const std::string& form : {fmt::format("${{{}}}", word), fmt::format("${}", word)})
                for (auto at = text.find(form); at != std::string::npos && text.size() < 4096;
                     at = text.find(form, at + value.size()))
                    text.replace(at, form.size(), value);
            return text;
        };
        const std::string with_origin = put(put(std::string(written), "ORIGIN", directory_of(owner.path)), "PLATFORM",
                                            program_.bits == 64 ? "x86_64" : "i686");
        std::vector<std::string> out;
        for (const std::string_view lib : {program_.bits == 64 ? "lib/x86_64-linux-gnu" : "lib/i386-linux-gnu",
                                           program_.bits == 64 ? "lib64" : "lib"}) {
            auto text = put(with_origin, "LIB", lib);
            if (std::ranges::find(out, text) == out.end()) out.push_back(std::move(text));
        }
        return out;
    }

    /// Those of Debian's builds and of others': a library in one that this loader does not know is found all the same.
    [[nodiscard]] const std::vector<std::string>& defaults() {
        if (!defaults_.empty()) return defaults_;
        if (musl_) {
            std::string list =
                files_.content(fmt::format("/etc/ld-musl-{}.path", program_.bits == 64 ? "x86_64" : "i386"));
            if (list.empty()) list = "/lib:/usr/local/lib:/usr/lib";
            for (std::size_t at = 0; at < list.size();) {
                const auto end = std::min(list.find_first_of(":\n", at), list.size());
                if (end > at && defaults_.size() < 50) defaults_.push_back(list.substr(at, end - at));
                at = end + 1;
            }
            if (defaults_.empty()) defaults_.emplace_back("/lib");
            return defaults_;
        }
        if (program_.bits == 64)
            defaults_ = {
                "/lib/x86_64-linux-gnu", "/usr/lib/x86_64-linux-gnu", "/lib64", "/usr/lib64", "/lib", "/usr/lib"};
        else defaults_ = {"/lib/i386-linux-gnu", "/usr/lib/i386-linux-gnu", "/lib32", "/usr/lib32", "/lib", "/usr/lib"};
        return defaults_;
    }

    const ProgramFiles& files_;
    const ElfInfo& program_;
    bool musl_;
    std::map<std::string, std::vector<std::string>, std::less<>> cache_;
    std::vector<std::string> defaults_;
    std::size_t looks_ = 0;
};

}  // namespace

std::vector<std::pair<std::string, std::string>> read_library_cache(std::string_view cache) {
    std::vector<std::pair<std::string, std::string>> out;
    static constexpr std::string_view mark = "glibc-ld.so.cache1.1";
    const auto begin = cache.find(mark);
    if (begin == std::string_view::npos) return out;
    cache.remove_prefix(begin);
    const std::span<const std::uint8_t> bytes(reinterpret_cast<const std::uint8_t*>(cache.data()), cache.size());
    if (bytes.size() < sizeof(ondisk::LibraryCacheHead)) return out;
    const auto head = ondisk::from_bytes<ondisk::LibraryCacheHead>(bytes);
    auto text = [&](std::uint32_t at) {
        if (at >= cache.size()) return std::string{};
        const auto rest = cache.substr(at, 4096);
        return std::string(rest.substr(0, rest.find('\0')));
    };
    constexpr std::uint32_t most_entries = 100'000;
    for (std::uint32_t i = 0; i < std::min<std::uint32_t>(head.entries, most_entries); ++i) {
        const std::size_t at = sizeof(head) + std::size_t{i} * sizeof(ondisk::LibraryCacheEntry);
        if (at + sizeof(ondisk::LibraryCacheEntry) > bytes.size()) break;
        const auto entry = ondisk::from_bytes<ondisk::LibraryCacheEntry>(bytes, at);
        out.emplace_back(text(entry.name), text(entry.path));
    }
    return out;
}

std::optional<LibraryProblem> library_problem(const ProgramFiles& files, const std::string& path,
                                              const ElfInfo& program, std::vector<std::string>* found) {
    if (program.needed.empty()) return std::nullopt;
    return Search(files, program).run(path, found);
}

std::unique_ptr<ProgramFiles> program_files(const Ramdisk& ramdisk) { return std::make_unique<RamdiskFiles>(ramdisk); }
std::unique_ptr<ProgramFiles> program_files(const FileSystem& fs, std::string_view volume) {
    return std::make_unique<VolumeFiles>(fs, volume);
}

}  // namespace herberge
