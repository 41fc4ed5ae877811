// SPDX-License-Identifier: MIT
#include "loader/grub/world.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <cstring>

#include "loader/grub/features.hpp"

namespace herberge::grub {

namespace {

constexpr int most_links = 8;  // grub-core/fs/fshelp.c: symlinknest
constexpr std::uint64_t most_module = 4U << 20U;
constexpr int most_module_depth = 32;

std::optional<int> whole_number(std::string_view text) {
    int value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
    return value;
}

std::string_view driver_for(const VolumeInfo& info) { return traits_of(info.format).grub_module; }

constexpr std::string_view unread_prefix = "unread:";

/// What biosdisk and its kin say of a sector that the drive does not give.
std::string read_failure(const Error& error, std::string_view device) {
    return fmt::format("failure reading sector 0x{:x} from `{}'.", error.byte / 512,
                       device.substr(0, device.find(',')));
}

std::string_view table_driver(TableKind kind) {
    return kind == TableKind::Mbr ? "part_msdos" : kind == TableKind::Gpt ? "part_gpt" : std::string_view{};
}
std::string_view table_prefix(TableKind kind) {
    return kind == TableKind::Mbr ? "msdos" : kind == TableKind::Gpt ? "gpt" : std::string_view{};
}

}  // namespace

std::optional<Device> World::device(std::string_view name, const Modules& modules) const {
    if (name == "memdisk" && memory_disk_)
        return Device{&*memory_disk_, memory_disk_->volumes.empty() ? nullptr : memory_disk_->volumes.front()};
    if (name == "cd" || name == "cd0") {
        for (const auto& disk : machine_.disks)
            if (disk.optical) return Device{&disk, machine_.volume(disk.number, 0)};
        return std::nullopt;
    }
    if (name.starts_with(unread_prefix)) {
        const auto index = whole_number(name.substr(unread_prefix.size()));
        if (index && *index >= 0 && static_cast<std::size_t>(*index) < unread_devices_.size())
            return Device{nullptr, nullptr, unread_devices_[static_cast<std::size_t>(*index)]};
        return std::nullopt;
    }
    if (!name.starts_with("hd")) return layered_device(name, modules);
    const auto comma = name.find(',');
    const auto index = whole_number(name.substr(2, comma == std::string_view::npos ? comma : comma - 2));
    if (!index) return std::nullopt;
    // The firmware's first drive, 80h, is hd0.
    const Disk* disk = machine_.drive(*index, first_drive_);
    if (disk == nullptr) return std::nullopt;
    if (comma == std::string_view::npos) return Device{disk, nullptr};
    auto part = name.substr(comma + 1);
    const auto map = table_prefix(disk->table.kind);
    if (map.empty() || disk->refuses_table(Observer::Grub) || !driver_at_hand(table_driver(disk->table.kind), modules))
        return std::nullopt;
    if (part.starts_with(map)) part.remove_prefix(map.size());
    const auto number = whole_number(part);
    // grub-core/partmap/gpt.c reads the primary array, and checks no sum.
    if (!number || std::ranges::find(disk->table.not_in_primary, *number) != disk->table.not_in_primary.end())
        return std::nullopt;
    VolumeRef volume = machine_.volume(disk->number, *number);
    if (volume == nullptr) return std::nullopt;
    return Device{disk, volume};
}

std::string World::no_device(std::string_view name, const Modules& modules) const {
    const auto comma = name.find(',');
    if (name.starts_with("hd") && comma != std::string_view::npos && device(name.substr(0, comma), modules))
        return "no such partition.";
    return fmt::format("disk `{}' not found.", name);
}

VolumeRef World::volume_of(const Device& device) const {
    return device.volume != nullptr || device.disk == nullptr ? device.volume : machine_.volume(device.disk->number, 0);
}

std::string World::name_of(const Volume& volume) const {
    if (!volume.names.grub.empty()) return volume.names.grub.front();
    const int index = machine_.drive_index(volume.disk, first_drive_);
    const Disk* disk = machine_.disk(volume.disk);
    if (disk != nullptr && disk->optical) return platform_ == "i386-pc" ? "cd" : "cd0";
    if (volume.partition <= 0 || disk == nullptr) return fmt::format("hd{}", index);
    return fmt::format("hd{},{}{}", index, table_prefix(disk->table.kind), volume.partition);
}

std::vector<std::pair<std::string, Device>> World::search_order(const Modules& modules) const {
    std::vector<std::pair<std::string, Device>> out;
    for (std::size_t i = 0; i < machine_.disks.size(); ++i) {
        const std::string name = fmt::format("hd{}", i);
        const auto whole = device(name, modules);
        if (!whole) continue;
        // A volume without a table is reached through the disk's own name.
        VolumeRef bare = machine_.volume(whole->disk->number, 0);
        out.emplace_back(name, Device{whole->disk, bare});
        for (auto volume = whole->disk->volumes.rbegin(); volume != whole->disk->volumes.rend(); ++volume) {
            if ((*volume)->partition <= 0) continue;
            const std::string full = name_of(**volume);
            if (const auto found = device(full, modules)) out.emplace_back(full, *found);
        }
    }
    for (const auto& volume : machine_.layered)
        if (!volume->names.grub.empty() && !volume->not_assembled)
            if (const auto found = device(volume->names.grub.front(), modules))
                out.emplace_back(volume->names.grub.front(), *found);
    // Discs come last.
    const std::string disc = platform_ == "i386-pc" ? "cd" : "cd0";
    if (const auto found = device(disc, modules)) out.emplace_back(disc, *found);
    return out;
}

bool World::driver_at_hand(std::string_view driver, const Modules& modules) const {
    return all_modules_ || modules.loaded.contains(driver) || autoloaded(driver, modules);
}

std::optional<Modules> World::autoloaded(std::string_view driver, const Modules& modules) const {
    // Normal mode tries the drivers named in fs.lst one by one (grub_fs_autoload_hook).
    // While it does, what lies on a volume that needs a driver itself is not found (grub-core/kern/fs.c,
    // grub_fs_probe).
    if (autoloading_ || !file_system_modules_.contains(driver)) return std::nullopt;
    Modules copy = modules;
    autoloading_ = true;
    bool failed = load_one(driver, list_prefix_, copy, 0).has_value();
    // What the volume of a new prefix needs came from the one before, when that was looked at.
    if (failed && first_prefix_ != list_prefix_) {
        copy = modules;
        failed = load_one(driver, first_prefix_, copy, 0).has_value();
    }
    autoloading_ = false;
    return failed ? std::nullopt : std::optional(std::move(copy));
}

bool World::readable(const Volume& volume, const Modules& modules) const {
    const auto driver = driver_for(volume.as(Observer::Grub));
    return !driver.empty() && volume.files(Observer::Grub) != nullptr && driver_at_hand(driver, modules) &&
           refused_features(volume, modules).empty();
}

std::vector<std::string> World::refused_features(const Volume& volume, const Modules& modules) const {
    const auto& info = volume.as(Observer::Grub);
    const auto driver = driver_for(info);
    const auto refused = [&](const Modules& with) {
        const auto accepted = with.features.find(driver);
        return grub::refused_features(info,
                                      accepted != with.features.end() ? std::optional(accepted->second) : std::nullopt);
    };
    if (all_modules_ || modules.loaded.contains(driver)) return refused(modules);
    const auto loaded = autoloaded(driver, modules);
    return loaded ? refused(*loaded) : std::vector<std::string>{};
}

std::string World::refusal_clause(const Volume& volume, const Modules& modules) const {
    const auto refused = refused_features(volume, modules);
    return refused.empty() ? std::string{}
                           : fmt::format(": GRUB's driver does not take {} with {}", volume.as(Observer::Grub).name(),
                                         fmt::join(refused, ", "));
}

bool World::unread(const Volume& volume, const Modules& modules) const {
    const auto driver = driver_for(volume.as(Observer::Grub));
    return !driver.empty() && volume.files(Observer::Grub) == nullptr && driver_at_hand(driver, modules) &&
           refused_features(volume, modules).empty();
}

bool World::reads_encrypted(const Volume& volume, const Modules& modules) const {
    const auto any = [&](std::initializer_list<std::string_view> names) {
        return std::ranges::any_of(names, [&](std::string_view name) { return modules.loaded.contains(name); });
    };
    if (all_modules_) return true;
    if (volume.info.format == Format::Luks1) return any({"luks"});
    if (volume.info.is(Family::Luks)) return any({"luks2"});
    return any({"geli", "cryptodisk"});
}

/// GRUB looks into this member or encrypted volume (grub-core/disk): it has the module, and was told the key.
bool World::layer_at_hand(const VolumeRef& volume, const Modules& modules) const {
    const auto any = [&](std::initializer_list<std::string_view> names) {
        return std::ranges::any_of(
            names, [&](std::string_view name) { return all_modules_ || modules.loaded.contains(name); });
    };
    if (volume->info.content() == Content::Encrypted)
        return reads_encrypted(*volume, modules) && (all_modules_ || modules.asked.contains(volume));
    if (volume->info.is(Family::Raid)) return any({"mdraid09", "mdraid1x", "diskfilter"});
    return volume->info.is(Family::Lvm) && any({"lvm"});
}

/// GRUB has the module that makes this volume of others.
bool World::opens(const Volume& volume, const Modules& modules) const {
    return std::ranges::all_of(volume.made_of, [&](const VolumeRef& member) {
        return layer_at_hand(member, modules) && (member->made_of.empty() || opens(*member, modules));
    });
}

std::string World::unread_places(const Modules& modules, bool files) const {
    return machine_.places_of([&](const Volume& v) {
        return (layer_at_hand(v.shared_from_this(), modules) && !machine_.understands(v)) ||
               (files && unread(v, modules));
    });
}

std::string World::unread_device(std::string what) const {
    const auto known = std::ranges::find(unread_devices_, what);
    const auto index = known - unread_devices_.begin();
    if (known == unread_devices_.end() && unread_devices_.size() < 1000) unread_devices_.push_back(std::move(what));
    return fmt::format("{}{}", unread_prefix, index);
}

/// Names that GRUB gives to arrays, logical volumes and opened encrypted ones (grub-core/disk/diskfilter.c,
/// cryptodisk.c).
std::optional<Device> World::layered_device(std::string_view name, const Modules& modules) const {
    static constexpr std::array<std::string_view, 7> beginnings = {"lvm",  "md",  "ieee1275/", "crypto",
                                                                   "luks", "ldm", "diskfilter"};
    if (std::ranges::none_of(beginnings, [&](std::string_view b) { return name.starts_with(b); })) return std::nullopt;
    for (const auto& volume : machine_.layered) {
        if (std::ranges::find(volume->names.grub, name) == volume->names.grub.end()) continue;
        if (!opens(*volume, modules)) return std::nullopt;
        if (volume->not_assembled && volume->not_assembled->lack() == Lack::Unsupported)
            return Device{nullptr, nullptr, fmt::format("({}) is {}", name, volume->not_assembled->what)};
        if (volume->not_assembled) return std::nullopt;
        return Device{nullptr, volume};
    }
    const auto places = unread_places(modules, false);
    if (places.empty()) return std::nullopt;
    return Device{nullptr, nullptr, fmt::format("({}) is made from {}, which is not looked into here", name, places)};
}

/// Packed files as GRUB reads them (grub-core/io/gzio.c, xzio.c, lzopio.c): by their first bytes, when the module is
/// there.
Source World::unpacked(const Source& file, const Modules& modules) const {
    constexpr std::uint64_t most_unpacked = std::uint64_t{192} << 20U;  // kernels of arm64 are packed as files
    const auto head = file->bytes(0, std::min<std::uint64_t>(8, file->size()));
    if (!head || head->size() < 6) return file;
    const auto kind = recognise_compression(*head);
    const std::string_view module = kind == Compression::Gzip   ? "gzio"
                                    : kind == Compression::Xz   ? "xzio"
                                    : kind == Compression::Lzop ? "lzopio"
                                                                : "";
    if (module.empty() || !(all_modules_ || modules.loaded.contains(module))) return file;
    std::vector<std::uint8_t> bytes;
    const auto done = unpack(kind, *file, 0, file->size(), most_unpacked, [&](std::span<const std::uint8_t> piece) {
        bytes.insert(bytes.end(), piece.begin(), piece.end());
        return true;
    });
    return done ? memory_source(std::move(bytes), file->place()) : file;
}

Opened World::open(std::string_view path, std::string_view root, const Modules& modules, bool as_stored) const {
    Opened out;
    auto refuse = [&](Opened::Failure failure, std::string message) {
        out.failure = failure;
        out.message = std::move(message);
        return out;
    };
    std::string_view device_name = root;
    std::string_view file = path;
    if (path.starts_with('(')) {
        const auto close = path.find(')');
        if (close == std::string_view::npos)
            return refuse(Opened::Failure::Device, fmt::format("invalid file name `{}'.", path));
        device_name = path.substr(1, close - 1);
        file = path.substr(close + 1);
    }
    if (!file.starts_with('/')) return refuse(Opened::Failure::File, fmt::format("invalid file name `{}'.", path));
    if (device_name.empty()) return refuse(Opened::Failure::Device, "no such device.");
    const auto found = device(device_name, modules);
    if (!found) return refuse(Opened::Failure::Device, no_device(device_name, modules));
    if (!found->unread.empty()) return refuse(Opened::Failure::Unread, found->unread);
    if (device_name == "memdisk" && found->volume == nullptr) {
        const auto member = memory_files_.find(file);
        if (member == memory_files_.end())
            return refuse(Opened::Failure::File, fmt::format("file `{}' not found.", file));
        out.source = member->second;
        out.place = fmt::format("memdisk:{}", file);
        return out;
    }
    out.volume = volume_of(*found);
    if (const auto problem = out.volume != nullptr ? out.volume->problem(Observer::Grub) : std::nullopt;
        problem && problem->unreadable())
        return refuse(Opened::Failure::Read, read_failure(*problem, device_name));
    if (out.volume != nullptr && unread(*out.volume, modules))
        return refuse(Opened::Failure::Unread,
                      fmt::format("{} is {}, whose files GRUB reads and this program does not yet", out.volume->place,
                                  out.volume->as(Observer::Grub).name()));
    if (out.volume != nullptr && out.volume->mark_unreadable())
        return refuse(Opened::Failure::Read, read_failure(*out.volume->problem(Observer::Grub), device_name));
    if (out.volume == nullptr || !readable(*out.volume, modules)) {
        if (out.volume != nullptr) out.because = refusal_clause(*out.volume, modules);
        return refuse(Opened::Failure::FileSystem, "unknown filesystem.");
    }
    out.place = fmt::format("{}:{}", out.volume->place, file);
    auto resolved = resolve(*out.volume->files(Observer::Grub), file, {.most_links = most_links, .follow_last = true});
    if (!resolved) {
        const auto kind = resolved.error().kind;
        if (kind == ErrorKind::LinkLoop) return refuse(Opened::Failure::File, "too deep nesting of symlinks.");
        if (kind == ErrorKind::NotFound || kind == ErrorKind::WrongType)
            return refuse(Opened::Failure::File, fmt::format("file `{}' not found.", file));
        return refuse(Opened::Failure::Read, resolved.error().unreadable() ? read_failure(resolved.error(), device_name)
                                                                           : resolved.error().text());
    }
    out.resolved = std::move(*resolved);
    if (out.resolved.file.type != FileType::Regular) return refuse(Opened::Failure::File, "not a regular file.");
    auto source = out.volume->files(Observer::Grub)
                      ->open(out.resolved.file.id, fmt::format("{}:{}", out.volume->place, out.resolved.path));
    if (!source)
        return refuse(Opened::Failure::Read,
                      source.error().unreadable() ? read_failure(source.error(), device_name) : source.error().text());
    // GRUB looks at a file's first bytes when it opens it, to find out whether it is packed.
    if (const auto head = (*source)->bytes(0, std::min<std::uint64_t>(512, (*source)->size()));
        !head && head.error().unreadable())
        return refuse(Opened::Failure::Read, read_failure(head.error(), device_name));
    out.source = as_stored ? std::move(*source) : unpacked(*source, modules);
    return out;
}

void World::set_memory_disk(const std::vector<std::uint8_t>& bytes) {
    if (bytes.empty()) return;
    auto source = memory_source(bytes, "memdisk");
    memory_disk_.emplace();
    memory_disk_->number = 0;
    memory_disk_->source = source;
    auto volume = std::make_shared<const Volume>(source, 0, 0);
    if (volume->files(Observer::Grub) != nullptr) {
        memory_disk_->volumes.push_back(std::move(volume));
        return;
    }
    // A tar archive (POSIX ustar): a header of 512 bytes, sizes in octal digits.
    for (std::size_t at = 0; at + 512 <= bytes.size() && bytes[at] != 0;) {
        std::string name(reinterpret_cast<const char*>(bytes.data()) + at,
                         strnlen(reinterpret_cast<const char*>(bytes.data()) + at, 100));
        std::size_t size = 0;
        for (std::size_t i = at + 124; i < at + 135 && bytes[i] >= '0' && bytes[i] <= '7'; ++i)
            size = size * 8 + (bytes[i] - '0');
        if (size > bytes.size() - at - 512) break;
        while (name.starts_with("./")) name.erase(0, 2);
        if (!name.starts_with('/')) name = fmt::format("/{}", name);
        memory_files_[name] = slice(source, at + 512, size, "memdisk:" + name);
        at += 512 + (size + 511) / 512 * 512;
    }
}

void World::set_kernel(std::span<const std::uint8_t> kernel) {
    std::string run;
    for (const auto byte : kernel) {
        const char c = static_cast<char>(byte);
        if (std::isalnum(byte) != 0 || c == '_') {
            run += c;
            continue;
        }
        if (c == '\0' && run.size() > 3) kernel_symbols_.insert(run);
        run.clear();
    }
}

std::optional<Error> World::load_module(std::string_view name, std::string_view prefix, Modules& modules) const {
    if (all_modules_) {
        modules.loaded.emplace(name);
        return std::nullopt;
    }
    return load_one(name, prefix, modules, 0);
}

std::optional<Error> World::load_one(std::string_view name, std::string_view prefix, Modules& modules,
                                     int depth) const {
    if (modules.loaded.contains(name)) return std::nullopt;
    if (depth > most_module_depth)
        return Error{ErrorKind::LinkLoop, "too many modules depend on each other.", {}, {}, {}};
    const std::string path = fmt::format("{}/{}/{}.mod", prefix, platform_, name);
    auto cached = module_files_.find(path);
    if (cached == module_files_.end()) {
        const auto file = open(path, {}, modules);
        const auto kind = file.failure == Opened::Failure::Read         ? ErrorKind::Unreadable
                          : file.failure == Opened::Failure::FileSystem ? ErrorKind::Unsupported
                                                                        : ErrorKind::NotFound;
        Result<Module> module = fail(kind, file.message);
        if (file.source) {
            looked_up_.insert(file.place);
            const auto bytes = file.source->bytes(0, file.source->size(), most_module);
            if (bytes) module = read_module(*bytes, platform_);
            else if (bytes.error().unreadable())
                module =
                    fail(ErrorKind::Unreadable, fmt::format("failure reading sector 0x{:x}", bytes.error().byte / 512));
            else module = fail(ErrorKind::Io, "premature end of file " + file.place);
            if (!module) module.error().what += ".";
        }
        cached = module_files_.emplace(path, std::move(module)).first;
    }
    if (!cached->second) return cached->second.error();
    const Module& module = *cached->second;
    for (const auto& needed : module.depends)
        if (auto problem = load_one(needed, prefix, modules, depth + 1)) return problem;
    if (!kernel_symbols_.empty())
        for (const auto& symbol : module.needs)
            if (!modules.symbols.contains(symbol) && !kernel_symbols_.contains(symbol))
                return Error{ErrorKind::Malformed, fmt::format("symbol `{}' not found.", symbol), {}, {}, {}};
    modules.symbols.insert(module.defines.begin(), module.defines.end());
    modules.words.insert(module.words.begin(), module.words.end());
    modules.loaded.emplace(name);
    if (module.features) modules.features[module.name] = *module.features;
    return std::nullopt;
}

std::string World::module_of_command(std::string_view command) const {
    const auto found = command_modules_.find(command);
    return found != command_modules_.end() ? found->second : std::string{};
}

void World::read_lists(std::string_view prefix, const Modules& modules) {
    const bool again = lists_read_ > 0;
    if (!again) first_prefix_ = prefix;
    list_prefix_ = prefix;
    ++lists_read_;
    // Whether what it says is known: GRUB goes on without a list that is not there (grub-core/normal/dyncmd.c).
    auto each_line = [&](std::string_view name, auto& before, auto&& visit) {
        constexpr std::uint64_t most = std::uint64_t{16} << 20U;
        const std::string path = fmt::format("{}/{}/{}", prefix, platform_, name);
        const auto file = open(path, {}, modules);
        if (!file.source) {
            if (file.failure == Opened::Failure::Read) lost_list_ = path;
            // What another place told goes on being valid.
            if (again && file.failure == Opened::Failure::File) return lists_known_;
            return file.failure != Opened::Failure::Unread;
        }
        before.clear();
        auto text = file.source->text(most);
        if (!text && text.error().unreadable()) {
            // Line by line it comes as far as the first sector that is not given.
            lost_list_ = path;
            text = std::string();
            for (std::uint64_t at = 0; at < std::min(file.source->size(), most); at += 512) {
                const auto part = file.source->bytes(at, std::min<std::uint64_t>(512, file.source->size() - at));
                if (!part) break;
                text->append(part->begin(), part->end());
            }
        }
        if (!text) return false;
        std::string_view rest(*text);
        while (!rest.empty()) {
            const auto end = std::min(rest.find('\n'), rest.size());
            visit(rest.substr(0, end));
            rest.remove_prefix(std::min(end + 1, rest.size()));
        }
        return true;
    };
    lists_known_ = each_line("command.lst", command_modules_, [&](std::string_view line) {
        const auto colon = line.find(':');
        if (colon == std::string_view::npos) return;
        auto name = line.substr(0, colon);
        if (name.starts_with('*')) name.remove_prefix(1);  // an extended command
        auto module = line.substr(colon + 1);
        while (module.starts_with(' ')) module.remove_prefix(1);
        command_modules_.emplace(name, module);
    });
    each_line("fs.lst", file_system_modules_, [&](std::string_view line) { file_system_modules_.emplace(line); });
}

}  // namespace herberge::grub
