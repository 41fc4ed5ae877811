// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "artifact/device_tree.hpp"
#include "loader/uboot/uboot.hpp"
#include "loader/videocore/config.hpp"
#include "loader/videocore/videocore.hpp"

namespace herberge::loader::videocore {

namespace {

constexpr const char* no_kernel_lights = "(the green light blinks seven times, again and again)";

std::optional<std::string> text_of(const Volume& volume, const std::string& path) {
    constexpr std::uint64_t most = std::uint64_t{1} << 20U;
    const auto* fs = plain_view(volume);
    const auto found = fs != nullptr ? resolve(*fs, path) : fail(ErrorKind::NotFound, "no file system");
    const auto source = found ? fs->open(found->file.id, volume.place + ":" + path) : tl::unexpected(found.error());
    const auto bytes = source ? (*source)->bytes(0, std::min(most, (*source)->size())) : tl::unexpected(source.error());
    if (!bytes) return std::nullopt;
    return std::string(bytes->begin(), bytes->end());
}

class Firmware {
public:
    Firmware(const Machine& machine, const Volume& volume, const Board& board, const Model& model)
        : machine_(machine), volume_(volume), board_(board), model_(model) {}

    /// What a trial start, which the system asks for once, would take in place of this.
    [[nodiscard]] std::string trial() const {
        const Disk* disk = machine_.disk(volume_.disk);
        const auto first = disk != nullptr && !disk->volumes.empty() ? disk->volumes.front() : nullptr;
        const auto text = first != nullptr ? text_of(*first, "/autoboot.txt") : std::nullopt;
        const auto other = text ? autoboot_partition(*text, true) : std::nullopt;
        if (other && *other != volume_.partition)
            return fmt::format("; a trial start (tryboot) takes d{}p{}", volume_.disk, *other);
        return text_of(volume_, "/tryboot.txt") ? "; a trial start (tryboot) reads tryboot.txt in config.txt's place"
                                                : std::string{};
    }

    LoaderRun run() {
        read();
        entry_.kind = EntryKind::Linux;
        entry_.started_by = KernelEntry::Board;
        entry_.title = "config.txt";
        entry_.path = {0};
        choose_kernel();
        const auto kernel = entry_.kernel.empty() ? nullptr : open_file(entry_.kernel.front());
        if (kernel != nullptr && holds_uboot(*kernel)) return uboot(kernel);
        ramdisk();
        tree();
        command_line();
        entry_.kernel_loaded = !entry_.stop;
        out_.menu.direct = {std::move(entry_)};
        return std::move(out_);
    }

private:
    void read() {
        out_.name = "the Raspberry Pi's firmware";
        out_.menu.loader = out_.name;
        out_.menu.place = volume_.place + ":/config.txt";
        out_.menu.timeout = 0;
        out_.menu.boots_without_menu = true;
        const auto text = text_of(volume_, "/config.txt");
        const auto include = [](const void* context, std::string_view name) {
            return text_of(*static_cast<const Volume*>(context), "/" + std::string(name));
        };
        if (text) read_config(*text, out_.menu.place, model_, config_, include, &volume_);
        out_.loader_text = fmt::format("the firmware's files for {} are there{}", board_.title, trial());
        out_.configuration_text =
            text ? fmt::format("{} is read: {} setting{} count for {}", out_.menu.place, config_.settings.size(),
                               config_.settings.size() == 1 ? "" : "s", board_.title)
                 : fmt::format("there is no {}: names by default are used", out_.menu.place);
        entry_.place = out_.menu.place;
        prefix_ = config_.value("os_prefix");
    }

    void refuse(Finding why) {
        if (entry_.stop) return;
        entry_.messages.push_back({why.symptom, {}, 0});
        entry_.stop = std::move(why);
    }

    [[nodiscard]] FileReference named(const std::string& name, int line) const {
        return refer(volume_, name, "/" + prefix_ + name, line);
    }

    /// By name, else by default: the best that is there.
    void choose_kernel() {
        const bool own = config_.settings.contains("kernel");
        const std::string told = config_.value("arm_64bit");
        std::vector<std::string> names;
        if (own) names.push_back(config_.value("kernel"));
        const auto add = [&](const std::vector<std::string_view>& more) {
            names.insert(names.end(), more.begin(), more.end());
        };
        if (!own) {
            const bool wide = told.empty() ? model_.wide_first : told != "0";
            if (wide && !model_.wide.empty()) add(model_.wide);
            // Nobody said 64 bits: those of 32 do as well.
            if (!wide || model_.wide.empty() || told.empty()) add(model_.narrow);
        }
        // A prefix counts only where it leads to a kernel.
        if (!prefix_.empty() && std::ranges::none_of(names, [&](const auto& n) { return named(n, 0).found(); }))
            prefix_.clear();
        const int line = config_.line(own ? "kernel" : "arm_64bit");
        for (const auto& name : names) {
            entry_.kernel = {named(name, line)};
            if (entry_.kernel.front().found()) break;
        }
        entry_.line = std::max(1, line);
        kernel_name_ = entry_.kernel.empty() ? std::string() : entry_.kernel.front().written;
        if (!entry_.kernel.empty() && entry_.kernel.front().found()) return;
        std::vector<Evidence> evidence;
        evidence.reserve(names.size());
        for (const auto& name : names)
            evidence.push_back(evidence_place(volume_.place + ":/" + prefix_ + name, "a kernel", "absent"));
        const auto first = named(names.empty() ? std::string("kernel.img") : names.front(), line);
        entry_.kernel = {first};
        refuse(make_finding(Code::EntryKernelMissing,
                            fmt::format("{} takes {}, and {} has {}", board_.title, fmt::join(names, " or "),
                                        volume_.place, names.size() == 1 ? "no such file" : "neither"),
                            std::move(evidence), no_kernel_lights));
    }

    static bool holds_uboot(const ByteSource& kernel) {
        constexpr std::uint64_t most = std::uint64_t{2} << 20U;
        const auto bytes = kernel.bytes(0, std::min(most, kernel.size()));
        return bytes &&
               std::string_view(reinterpret_cast<const char*>(bytes->data()), bytes->size()).find("U-Boot 2") !=
                   std::string_view::npos;
    }

    LoaderRun uboot(const Source& program) const {
        uboot::Start start;
        start.board = &board_;
        start.program = program;
        start.program_place = entry_.kernel.front().place;
        auto out = uboot::run(machine_, start);
        out.loader_text =
            fmt::format("the firmware starts {}, which is U-Boot; {}", entry_.kernel.front().place, out.loader_text);
        return out;
    }

    void ramdisk() {
        std::string names;
        int line = 0;
        if (config_.ramdisk) {
            names = config_.ramdisk->value.substr(0, config_.ramdisk->value.find_first_of(" \t"));
            line = config_.ramdisk->line;
        } else if (config_.value("auto_initramfs") == "1") {
            // By the kernel's name: kernel8.img has initramfs8.
            line = config_.line("auto_initramfs");
            const auto dot = kernel_name_.rfind(".img");
            if (kernel_name_.starts_with("kernel") && dot != std::string::npos)
                names = "initramfs" + kernel_name_.substr(6, dot - 6);
            if (!named(names, line).found()) return;
        }
        for (std::size_t at = 0; at < names.size();) {
            const auto end = std::min(names.find(',', at), names.size());
            auto file = named(names.substr(at, end - at), line);
            if (!file.found())
                out_.findings.push_back(make_finding(
                    Code::RamdiskMissing,
                    fmt::format("the RAM disk {} is not there: the firmware starts the kernel without", file.place),
                    {evidence_line(out_.menu.place, line, file.written, *file.error)}));
            entry_.ramdisks.push_back(std::move(file));
            at = end + 1;
        }
    }

    void tree() {
        const auto own = config_.settings.find("device_tree");
        if (own != config_.settings.end() && own->second.value.empty()) return;
        std::vector<FileReference> candidates;
        if (own != config_.settings.end()) candidates.push_back(named(own->second.value, own->second.line));
        else
            for (const auto name : model_.trees) candidates.push_back(named(std::string(name), 0));
        const auto found = std::ranges::find_if(candidates, [](const FileReference& f) { return f.found(); });
        const bool wide = board_.processor == Processor::Arm64;
        if (found == candidates.end()) {
            std::vector<Evidence> looked;
            looked.reserve(candidates.size());
            for (const auto& file : candidates) looked.push_back(evidence_place(file.place, "a device tree", "absent"));
            auto why = make_finding(Code::BoardTreeMissing,
                                    fmt::format("{} has no device tree for {}", volume_.place, board_.title),
                                    std::move(looked), "(a rainbow on the screen, and nothing more)");
            // Old kernels of 32 bits knew the boards themselves.
            if (wide) return refuse(std::move(why));
            why.severity = Severity::Risk;
            out_.findings.push_back(std::move(why));
            return;
        }
        entry_.devicetree = {*found};
        const auto bytes = open_file(*found);
        const auto read = bytes != nullptr ? DeviceTree::open(*bytes) : fail(ErrorKind::NotFound, "none");
        if (!read && bytes != nullptr)
            refuse(make_finding(Code::BoardTreeMissing,
                                fmt::format("the device tree {} is damaged: {}", found->place, read.error().what),
                                {evidence_error(read.error())}, "(a rainbow on the screen, and nothing more)"));
        const std::string folder = config_.value("overlay_prefix", "overlays/");
        for (const auto& overlay : config_.overlays) {
            const auto file = named(folder + overlay.value + ".dtbo", overlay.line);
            if (file.found()) continue;
            out_.findings.push_back(
                make_finding(Code::BoardOverlayMissing,
                             fmt::format("the overlay {} is not there: the firmware goes on without it", file.place),
                             {evidence_line(overlay.place, overlay.line, overlay.value, "absent")}));
        }
    }

    /// Its first line alone.
    void command_line() {
        const std::string name = config_.value("cmdline", "cmdline.txt");
        if (const auto text = text_of(volume_, "/" + prefix_ + name)) {
            entry_.arguments = text->substr(0, text->find('\n'));
            while (!entry_.arguments.empty() && (entry_.arguments.back() == '\r' || entry_.arguments.back() == ' '))
                entry_.arguments.pop_back();
        }
    }

    const Machine& machine_;
    const Volume& volume_;
    const Board& board_;
    const Model& model_;
    Config config_;
    std::string prefix_, kernel_name_;
    MenuEntry entry_;
    LoaderRun out_;
};

}  // namespace

VolumeRef boot_volume(const Machine& machine) {
    if (machine.disks.empty() || machine.disks.front().problem) return nullptr;
    const Disk& disk = machine.disks.front();
    VolumeRef first;
    for (const auto& volume : disk.volumes)
        if (first == nullptr && volume->as(Observer::Loader).is(Family::Fat) && plain_view(*volume) != nullptr)
            first = volume;
    if (first == nullptr) return nullptr;
    if (const auto text = text_of(*first, "/autoboot.txt"))
        if (const auto other = autoboot_partition(*text))
            if (auto volume = machine.volume(disk.number, *other); volume != nullptr && plain_view(*volume) != nullptr)
                return volume;
    return first;
}

std::vector<FileReference> firmware_files(const Volume& volume, const Board& board) {
    std::vector<FileReference> out;
    const Model* model = find_model(board.name);
    if (model == nullptr) return out;
    const auto text = text_of(volume, "/config.txt");
    Config config;
    if (text) read_config(*text, volume.place + ":/config.txt", *model, config, nullptr, nullptr);
    for (const auto name : model->parts) {
        std::string file(name);
        if (file.starts_with("start")) {
            // start_file, or by what else is asked for: the one with the camera, the small one.
            const std::string middle = file == "start4.elf" ? "4" : "";
            if (config.value("start_x") == "1") file = fmt::format("start{}x.elf", middle.empty() ? "_" : "4");
            if (config.value("gpu_mem") == "16") file = fmt::format("start{}cd.elf", middle.empty() ? "_" : "4");
            file = config.value("start_file", file);
        }
        out.push_back(refer(volume, file, "/" + file, config.line("start_file")));
    }
    return out;
}

LoaderRun run(const Machine& machine, const Volume& volume, const Board& board) {
    const Model* model = find_model(board.name);
    if (model == nullptr) return {};
    return Firmware(machine, volume, board, *model).run();
}

}  // namespace herberge::loader::videocore
