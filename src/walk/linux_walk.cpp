// SPDX-License-Identifier: MIT
// From an entry that names a Linux kernel to the system's services.
#include "walk/step.hpp"

#include "system/barred_modules.hpp"
#include "system/crypttab.hpp"
#include "system/drivers.hpp"
#include "system/lost_root.hpp"
#include "system/medium.hpp"
#include "system/packages.hpp"
#include "system/ramdisk_screens.hpp"
#include "system/ramdisk_shell.hpp"
#include "system/root_script.hpp"
#include "system/usr_mount.hpp"
#include "walk/losses.hpp"
#include "walk/lost.hpp"
#include "walk/packed_root.hpp"
#include "walk/whose.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

namespace herberge::walk {

namespace {

class LinuxWalk {
public:
    LinuxWalk(const Machine& machine, const LinuxStart& start, Artifacts& artifacts, Ladder& ladder)
        : machine_(machine),
          entry_(*start.entry),
          menu_(*start.menu),
          artifacts_(artifacts),
          ladder_(ladder),
          around_(start.around),
          medium_(start.medium),
          losses_(entry_, menu_),
          arguments_(start.entry->arguments) {}

    void run() {
        if (!entry()) return;
        const KernelImage* image = kernel();
        if (image == nullptr) return;
        if (image->other_program) {
            for (const Stage stage : {Stage::Ramdisk, Stage::Root, Stage::Init, Stage::Services})
                ladder_.set(stage, State::NotNeeded, "what is started is a program of its own, no Linux");
            return;
        }
        losses_.doubt_beside(ladder_, Stage::Kernel, entry_.kernel.front());
        const auto loaded = ramdisk_files();
        const Ramdisk* ramdisk = nullptr;
        std::shared_ptr<const Result<Ramdisk>> held;
        if (loaded) {
            held = artifacts_.ramdisk(entry_.ramdisks, menu_.goes_on_at_losses);
            if (held->has_value()) ramdisk = &held->value();
        }
        auto root = named_root(machine_, entry_, ramdisk);
        if (root.volume != nullptr) {
            if (auto mounted = mounted_root(root.volume, arguments_)) root.volume = *mounted;
            else no_subvolume_ = mounted.error();
        }
        RootDemand demand = drivers::demand_of(root.volume, entry_.kernel.front(), *image, ramdisk);
        demand.locked_down = around_.locked_down;
        demand.barred = barred_modules(ramdisk, arguments_);
        if (around_.controller && root.volume != nullptr && root.volume->disk == around_.controller_disk) {
            demand.controller = around_.controller;
            demand.controller_told_by = around_.controller_told_by;
        }
        demand.kernel_mentions = [&](std::string_view words) {
            return artifacts_.mentions(entry_.kernel.front(), *image, words);
        };
        if (!judge_the_ramdisk(root, demand, ramdisk, held.get())) return;
        if (medium_ == nullptr && ramdisk != nullptr && root.kind == RootReference::Kind::Absent &&
            !asks_for_root(*ramdisk)) {
            ladder_.set(Stage::Root, State::Unknown,
                        "the command line names no root: the RAM disk's own init decides what it goes on with, or is "
                        "the whole system",
                        {evidence_place("RAM disk:/init")});
            return;
        }
        if (medium_ != nullptr && ramdisk != nullptr && root.volume == nullptr &&
            (root.kind == RootReference::Kind::Absent || root.cannot_tell)) {
            walk_packed_root(judge_medium(*medium_, arguments_), demand,
                             {machine_, *medium_, arguments_, *ramdisk, runs_on(), ladder_});
            return;
        }
        if (ramdisk != nullptr) {
            const auto script = judge_root_script(*ramdisk, arguments_);
            if (script.state != State::Holds) {
                ladder_.set(Stage::Root, script);
                return;
            }
        }
        if (!judge_the_root(root, demand, ramdisk) || !mount_the_programs(root, demand, ramdisk)) return;
        auto init = judge_init(*root.volume, arguments_, ramdisk, runs_on());
        doubt_if_unreplayed(init.result, *root.volume);
        ladder_.set(Stage::Init, init.result);
        if (init.result.state == State::Breaks) return;
        init.kernel_release = demand.kernel_release;
        init.has_driver = [&](Format format, std::string_view options) {
            return root_has_driver(*root.volume->files(Observer::Linux), demand, format, options);
        };
        init.has_module = [&](std::string_view module, std::string_view option) {
            return root_has_module(*root.volume->files(Observer::Linux), demand, module, option);
        };
        auto services = judge_services(machine_, *root.volume, init, arguments_);
        doubt_if_unreplayed(services, *root.volume);
        ladder_.set(Stage::Services, services);
    }

private:
    /// What breaks by files that the kernel may see otherwise, once it replayed a log, is not proven to break.
    static void doubt_if_unreplayed(Claim& claim, const Volume& volume) {
        const FileSystem* files = volume.files(Observer::Linux);
        const auto why = files != nullptr && claim.state == State::Breaks ? files->unreplayed() : std::nullopt;
        if (!why) return;
        claim.state = State::Doubtful;
        claim.text += fmt::format("; but {} was not unmounted cleanly, and {}", volume.place, *why);
        for (auto& finding : claim.findings)
            if (finding.severity == Severity::Breaks) finding.severity = Severity::Risk;
    }

    /// A /usr with a volume of its own is mounted before init is looked for.
    bool mount_the_programs(RootReference& root, const RootDemand& demand, const Ramdisk* ramdisk) {
        auto usr = mount_usr(machine_, root.volume, ramdisk, arguments_, demand.kernel_release);
        root.volume = std::move(usr.root);
        if (usr.claim.state == State::Holds && !usr.claim.text.empty())
            ladder_.support(Stage::Root, "; " + usr.claim.text, usr.claim.evidence.front());
        if (usr.claim.state == State::Unknown)
            ladder_.set(Stage::Root, State::Unknown,
                        fmt::format("{}; but {}", ladder_.at(Stage::Root).text, usr.claim.text), usr.claim.evidence);
        if (usr.claim.state == State::Breaks) ladder_.set(Stage::Root, usr.claim);
        return usr.claim.state != State::Breaks;
    }

    /// A RAM disk that gives up without root= on the command line: what it brings with it has no other way to a root.
    static bool asks_for_root(const Ramdisk& ramdisk) {
        if (ramdisk.builder != "initramfs-tools") return false;
        return ramdisk_setting(ramdisk, "ROOT").empty();
    }

    /// What programs must be made for: a 32-bit kernel on a 64-bit board runs those of 32 bits alone.
    [[nodiscard]] Processor runs_on() const {
        const bool narrow =
            held_kernel_ != nullptr && held_kernel_->has_value() && held_kernel_->value().processor == Processor::Arm;
        return narrow && around_.processor == Processor::Arm64 ? Processor::Arm : around_.processor;
    }

    [[nodiscard]] Evidence entry_line() const { return evidence_line(entry_.place, entry_.line, {}, entry_.title); }

    bool entry() {
        std::vector<Evidence> evidence{entry_line()};
        for (const auto& kernel : entry_.kernel) {
            evidence.push_back(evidence_line(entry_.place, kernel.line, kernel.written,
                                             kernel.found() ? kernel.real_path : *kernel.error));
        }
        if (!entry_.unread.empty()) {
            ladder_.set(Stage::Entry, State::Unknown,
                        fmt::format("what “{}” starts cannot be looked at: {}", entry_.title, entry_.unread), evidence);
            return false;
        }
        if (entry_.stop) {
            const Finding& stop = *entry_.stop;
            if (stop.stage > Stage::Entry)
                ladder_.set(Stage::Entry, State::Holds, fmt::format("“{}” names files that are there", entry_.title),
                            evidence);
            std::string reason = stop.text;
            if (!entry_.kernel.empty() && !entry_.kernel.front().links.empty())
                reason += fmt::format(" (through {})", fmt::join(entry_.kernel.front().links, ", "));
            if (!entry_.kernel.empty() && !entry_.kernel.front().near_misses.empty())
                reason += fmt::format(" But there is {}.", fmt::join(entry_.kernel.front().near_misses, ", "));
            const std::string screen = entry_screen(entry_, menu_);
            std::vector<Evidence> behind{evidence.back()};
            if (entry_.kind == EntryKind::Tool && !entry_.kernel.empty() && entry_.kernel.front().found())
                behind.push_back(evidence_place(entry_.kernel.front().place));
            auto shown = stop.stage == Stage::Entry ? evidence : behind;
            shown.insert(shown.begin(), stop.evidence.begin(), stop.evidence.end());
            ladder_.breaks(stop.code, reason, std::move(shown), screen);
            return false;
        }
        if (entry_.kind != EntryKind::Linux) {
            ladder_.set(Stage::Entry, State::Unknown,
                        fmt::format("“{}” starts something else than a Linux kernel ({}), which is not followed",
                                    entry_.title, entry_kind_name(entry_.kind)),
                        evidence);
            return false;
        }
        std::string text = fmt::format("“{}” resolves: kernel {}", entry_.title, entry_.kernel.front().place);
        if (!entry_.kernel.front().links.empty())
            text += fmt::format(", through {}", fmt::join(entry_.kernel.front().links, ", "));
        State state = State::Holds;
        if (entry_.restricted) {
            state = State::Doubtful;
            text += fmt::format("; but {} asks for {} first", menu_.loader, menu_.credential);
            ladder_.add_finding(make_finding(
                Code::EntryPassword, fmt::format("“{}” asks for {} before it starts", entry_.title, menu_.credential),
                {entry_line()}));
        }
        if (!menu_.default_matches)
            ladder_.add_finding(make_finding(
                Code::EntryDefaultUnmatched,
                fmt::format("the default “{}” names no entry; the first one is used", menu_.default_setting),
                {evidence_place(menu_.place)}));
        ladder_.set(Stage::Entry, state, std::move(text), std::move(evidence));
        return true;
    }

    const KernelImage* kernel() {
        const auto& file = entry_.kernel.front();
        held_kernel_ = artifacts_.kernel(file, entry_.started_by, around_.processor);
        if (!held_kernel_->has_value()) {
            const Error& error = held_kernel_->error();
            ladder_.breaks(Code::KernelUnreadable, "the kernel file cannot be read: " + error.text(),
                           {evidence_error(error)}, losses_.kernel_screen(error));
            return nullptr;
        }
        const KernelImage& image = held_kernel_->value();
        const std::string about =
            image.version.empty() ? file.real_path : fmt::format("{} ({})", file.real_path, image.release);
        switch (image.soundness) {
            case Soundness::Cut:
                ladder_.breaks(Code::KernelCut, fmt::format("{}: {}", about, image.soundness_text), image.evidence,
                               "(nothing: the machine resets or stops without a message)");
                return nullptr;
            case Soundness::Damaged:
                ladder_.breaks(Code::KernelDamaged, fmt::format("{}: {}", about, image.soundness_text), image.evidence,
                               damaged_symptom(image));
                return nullptr;
            case Soundness::Unknown:
                if (setup_breaks(image, about)) return nullptr;
                not_verified(image, about);
                break;
            case Soundness::Sound:
                if (setup_breaks(image, about)) return nullptr;
                ladder_.set(Stage::Kernel, State::Holds, fmt::format("{}: {}", about, image.soundness_text),
                            image.evidence);
                break;
        }
        return &image;
    }

    /// Nothing in the file itself says that it is whole. What does: a package manager's digest; that the damage shows
    /// in the part which this loader does not run. Else it is unknown, not sound.
    void not_verified(const KernelImage& image, const std::string& about) {
        auto evidence = image.evidence;
        std::string text = fmt::format("{}: {}", about, image.soundness_text);
        State state = image.changed_since_build ? State::Unknown : State::Doubtful;
        if (const auto digest = packaged(image)) {
            evidence.push_back(evidence_place(digest->list, digest->expected, digest->found));
            if (digest->same) {
                ladder_.set(Stage::Kernel, State::Holds,
                            fmt::format("{}; but it is byte by byte the file of the package {}", text, digest->package),
                            evidence);
                return;
            }
            ladder_.add_finding(make_finding(Code::FileDiffersFromPackage,
                                             fmt::format("{} is not the file that the package {} brought",
                                                         entry_.kernel.front().place, digest->package),
                                             {evidence.back()}));
        }
        if (image.setup_damage && entry_.started_by != KernelEntry::RealMode) {
            state = State::Doubtful;
            text += fmt::format("; {}, which {} does not run", image.setup_damage->what, menu_.loader);
        }
        ladder_.add_finding(make_finding(Code::KernelNotVerified, text, evidence));
        ladder_.set(Stage::Kernel, state, std::move(text), std::move(evidence));
    }

    [[nodiscard]] std::optional<PackageDigest> packaged(const KernelImage& image) const {
        const auto& file = entry_.kernel.front();
        const auto root = named_root(machine_, entry_);
        const auto source = open_reference(file);
        if (root.volume == nullptr || root.volume->files(Observer::Linux) == nullptr || source == nullptr ||
            image.release.empty())
            return std::nullopt;
        // A volume of its own for /boot shows its files without that directory.
        const std::string path = file.volume == root.volume || file.real_path.starts_with("/boot/")
                                     ? file.real_path
                                     : "/boot" + file.real_path;
        return PackageLists(*root.volume->files(Observer::Linux))
            .digest(path, *source, {"linux-image-" + image.release, "linux-image-unsigned-" + image.release});
    }

    /// Loaders that start the kernel in real mode run its set-up code; GRUB 2 skips it.
    bool setup_breaks(const KernelImage& image, const std::string& about) {
        if (entry_.started_by != KernelEntry::RealMode || !image.setup_damage) return false;
        const Error& damage = *image.setup_damage;
        ladder_.breaks(Code::KernelSetupDamaged,
                       fmt::format("{}: {}, and {} runs it", about, damage.what, menu_.loader),
                       {evidence_error(damage)}, "(nothing, or: No setup signature found...)");
        return true;
    }

    static std::string damaged_symptom(const KernelImage& image) {
        if (image.relocations_bad) return "32-bit relocation outside of kernel!\n -- System halted";
        switch (image.payload) {
            case Compression::Xz: return "XZ-compressed data is corrupt\n -- System halted";
            case Compression::Gzip: return "crc error\n -- System halted";
            case Compression::Zstd: return "ZSTD-compressed data is corrupt\n -- System halted";
            default: return "(nothing, or a reset: the unpacked kernel is garbage)";
        }
    }

    /// The RAM disk files that reach the kernel: all of them or none.
    [[nodiscard]] bool ramdisk_files() const {
        return !entry_.ramdisks.empty() &&
               std::ranges::all_of(entry_.ramdisks, [](const FileReference& f) { return f.found(); });
    }

    bool judge_the_ramdisk(const RootReference& root, const RootDemand& demand, const Ramdisk* ramdisk,
                           const Result<Ramdisk>* held) {
        if (ramdisk != nullptr) {
            auto result = judge_ramdisk(*ramdisk, demand, arguments_);
            judge_asked_shell(*ramdisk, arguments_, result);
            for (const auto& file : entry_.ramdisks)
                result.evidence.insert(result.evidence.begin(), evidence_place(file.where(), {}, size_text(file.size)));
            losses_.doubt_ramdisks(result);
            ladder_.set(Stage::Ramdisk, result);
            for (const auto& file : entry_.ramdisks) losses_.doubt_beside(ladder_, Stage::Ramdisk, file);
            return result.state != State::Breaks && !ramdisk->too_large;
        }
        if (held != nullptr) {
            ladder_.breaks(Code::RamdiskUnreadable, "the RAM disk cannot be read: " + held->error().text(),
                           {evidence_error(held->error())}, losses_.ramdisk_screen(held->error()));
            return false;
        }
        // The kernel starts without a RAM disk: does it need one?
        const auto missing = std::ranges::find_if(entry_.ramdisks, [](const FileReference& f) { return !f.found(); });
        std::vector<Evidence> evidence;
        std::string what = "the entry names no RAM disk";
        std::string symptom(root_panic);
        Code code = Code::RamdiskNotNamed;
        if (missing != entry_.ramdisks.end()) {
            code = Code::RamdiskMissing;
            what = fmt::format("the RAM disk {} is not there, and the kernel is started without it", missing->written);
            auto line = evidence_line(entry_.place, missing->line, missing->written, *missing->error);
            if (!missing->near_misses.empty())
                line.found += fmt::format("; there is {}", fmt::join(missing->near_misses, ", "));
            evidence.push_back(std::move(line));
            symptom = fmt::format("error: {}\n{}", *missing->error, root_panic);
        } else {
            evidence.push_back(entry_line());
        }
        std::string_view name(root.written);
        if (name.starts_with("/dev/")) name.remove_prefix(5);
        if (name.starts_with("ubi") || name.starts_with("mtd") ||
            (root.volume != nullptr && root.volume->kind == NodeKind::FlashVolume))
            return flash_without_ramdisk(name, what, evidence);
        using Kind = RootReference::Kind;
        // What a layer makes is there only when a program has opened it.
        const bool layered = (root.volume != nullptr && !root.volume->made_of.empty()) ||
                             std::string_view(root.written).starts_with("/dev/mapper/");
        const bool kernel_can_name = !layered && (((root.kind == Kind::PartUuid || root.kind == Kind::PartLabel) &&
                                                   !std::string_view(root.written).starts_with("/dev/")) ||
                                                  root.kind == Kind::Device || root.kind == Kind::Number);
        if (layered && root.volume != nullptr && root.volume->kind == NodeKind::Array) {
            // Arrays of version 0.90 on partitions of type fd are started by a kernel that has it all built in.
            ladder_.set(Stage::Ramdisk, State::Unknown,
                        fmt::format("{}; whether the kernel starts the array {} by itself is not told by any file here",
                                    what, root.volume->place),
                        evidence);
            return false;
        }
        if (!kernel_can_name) {
            ladder_.breaks(code,
                           fmt::format("{}; without one the kernel cannot resolve root={}", what,
                                       root.written.empty() ? "(absent)" : root.written),
                           evidence, symptom);
            return false;
        }
        const auto drivers = judge_root_drivers(nullptr, demand);
        if (drivers.state == State::Breaks) {
            ladder_.breaks(code, fmt::format("{}; {}", what, drivers.text), evidence, symptom);
            return false;
        }
        if (drivers.state == State::Unknown) {
            ladder_.set(Stage::Ramdisk, State::Unknown, fmt::format("{}; {}", what, drivers.text), evidence);
            return true;
        }
        ladder_.set(Stage::Ramdisk, State::NotNeeded,
                    fmt::format("{}; the kernel has what it needs built in: {}", what, drivers.text), evidence);
        return true;
    }

    /// The kernel attaches flash by itself, where its command line or the board's device tree says which
    /// (drivers/mtd/ubi/build.c).
    bool flash_without_ramdisk(std::string_view name, const std::string& what, std::vector<Evidence>& evidence) {
        if (name.starts_with("mtd")) {
            ladder_.set(Stage::Ramdisk, State::NotNeeded, what + "; the kernel reaches flash by itself", evidence);
            return true;
        }
        const bool told = arguments_.value("ubi.mtd").has_value();
        ladder_.set(Stage::Ramdisk, told ? State::NotNeeded : State::Unknown,
                    told ? fmt::format("{}; the command line tells the kernel which flash to attach (ubi.mtd={})", what,
                                       *arguments_.value("ubi.mtd"))
                         : fmt::format("{}, and no ubi.mtd= tells the kernel which flash to attach: the board's device "
                                       "tree would have to",
                                       what),
                    evidence);
        return true;
    }

    /// A device name of a kind that none of the drivers at hand gives: /dev/sda with nothing but virtio_blk.
    [[nodiscard]] static std::optional<std::string> disk_name_impossible(const RootReference& root,
                                                                         const RootDemand& demand,
                                                                         const Ramdisk* ramdisk) {
        if (root.kind != RootReference::Kind::Device || ramdisk == nullptr || ramdisk->modules.empty())
            return std::nullopt;
        const std::string_view name = std::string_view(root.written).starts_with("/dev/")
                                          ? std::string_view(root.written).substr(5)
                                          : std::string_view{};
        struct Kind {
            std::string_view names, module, option;
        };
        static constexpr Kind kinds[] = {{"sd", "sd_mod", "CONFIG_BLK_DEV_SD=y"},
                                         {"vd", "virtio_blk", "CONFIG_VIRTIO_BLK=y"},
                                         {"nvme", "nvme", "CONFIG_BLK_DEV_NVME=y"},
                                         {"mmcblk", "mmc_block", "CONFIG_MMC_BLOCK=y"}};
        const Kind* wanted = nullptr;
        bool other = false;
        for (const auto& kind : kinds) {
            const bool there = ramdisk->has_module(kind.module) ||
                               demand.config.find(kind.option) != std::string::npos ||
                               demand.builtin.find(fmt::format("/{}.ko", kind.module)) != std::string::npos;
            if (name.starts_with(kind.names)) {
                if (there) return std::nullopt;
                wanted = &kind;
            } else {
                other = other || there;
            }
        }
        if (wanted == nullptr || !other) return std::nullopt;
        // With nothing told about what is built in, the kernel itself is asked.
        if (demand.config.empty() && demand.builtin.empty() && demand.kernel_mentions && wanted->names == "sd") {
            const auto told = demand.kernel_mentions("Attached SCSI %sdisk");
            if (!told || *told) return std::nullopt;
        }
        return fmt::format(
            "root={}: no driver at hand gives disks such names ({} is neither in the RAM disk nor known to be built "
            "in)",
            root.written, wanted->module);
    }

    /// rootfstype= that the kernel's drivers would not mount this with; none: it fits, or none is given.
    [[nodiscard]] std::optional<std::string> wrong_type(const Volume& volume) const {
        const auto given = arguments_.value("rootfstype");
        if (!given || given->empty() || !volume.info.known()) return std::nullopt;
        return file_system_fits(volume.info.format, *given) ? std::nullopt : given;
    }

    /// Encrypted volumes that lie around the root, or that the RAM disk opens before it looks for one that is not seen.
    bool judge_the_keys(const RootReference& root, const Ramdisk* ramdisk) {
        auto claim = judge_unlocking(machine_, root, ramdisk, arguments_);
        key_findings_ = claim.findings;
        if (claim.state == State::Breaks) {
            claim.findings.front().symptom += "\n" + screen_root_missing(root.written, ramdisk);
            ladder_.set(Stage::Root, claim);
            return false;
        }
        if (claim.state == State::Unknown) driver_note_ = claim.text;
        return true;
    }

    bool judge_the_root(const RootReference& root, const RootDemand& demand, const Ramdisk* ramdisk) {
        const Evidence where = evidence_line(entry_.place, entry_.kernel.front().line, {},
                                             root.written.empty() ? "no root=" : "root=" + root.written);
        if (root.kind == RootReference::Kind::Absent) {
            ladder_.breaks(Code::RootNotNamed, "the kernel's command line has no root=", {where},
                           screen_root_unnamed(ramdisk));
            return false;
        }
        if (ramdisk != nullptr) {
            auto drivers = judge_root_drivers(ramdisk, demand);
            if (drivers.state == State::Breaks && ramdisk->damage && ramdisk->damage->kind != ErrorKind::Checksum) {
                // The archive that the drivers were in is the one that is damaged.
                ladder_.breaks(
                    Code::RamdiskDamaged,
                    fmt::format("the RAM disk is damaged behind its init: {}; {}", ramdisk->damage->what, drivers.text),
                    {evidence_error(*ramdisk->damage)},
                    fmt::format("{}{}{}", ramdisk->kernel_message, ramdisk->kernel_message.empty() ? "" : "\n",
                                screen_root_missing(root.written, ramdisk)));
                return false;
            }
            if (drivers.state == State::Breaks) {
                drivers.findings.front().symptom = screen_root_missing(root.written, ramdisk);
                ladder_.set(Stage::Root, drivers);
                return false;
            }
            if (drivers.state == State::Unknown) driver_note_ = drivers.text;
            if (drivers.state == State::Holds) driver_text_ = drivers.text;
        }
        if (const auto why = disk_name_impossible(root, demand, ramdisk)) {
            ladder_.breaks(Code::RootDeviceNameWrong, *why, {where}, screen_root_missing(root.written, ramdisk));
            return false;
        }
        if (!judge_the_keys(root, ramdisk)) return false;
        if (root.volume == nullptr) {
            if (root.cannot_tell) {
                Claim claim;
                claim.stage = Stage::Root;
                claim.text = fmt::format("root={} cannot be followed: {}", root.written,
                                         root.note.empty() ? "no known form" : root.note);
                const bool on_flash = root.value.starts_with("ubi") || root.value.starts_with("mtd");
                if (const auto words = arguments_.value("mtdparts"); words && on_flash)
                    claim.text += fmt::format("; the command line has the words for that: mtdparts={}", *words);
                claim.evidence = {where};
                claim.findings = key_findings_;
                ladder_.set(Stage::Root, claim);
                return false;
            }
            auto evidence = std::vector<Evidence>{where};
            evidence.front().expected = "a volume that answers to it";
            if (!root.near.empty()) evidence.front().found += fmt::format("; but {}", fmt::join(root.near, ", "));
            ladder_.breaks(Code::RootNotFound,
                           fmt::format("nothing on this machine answers to root={}{}", root.written,
                                       root.note.empty() ? why_not_opened(machine_, root.written, ramdisk, arguments_)
                                                         : " (" + root.note + ")"),
                           std::move(evidence), screen_root_missing(root.written, ramdisk));
            return false;
        }
        const Disk* disk = machine_.disk(root.volume->disk);
        if (const auto why = disk != nullptr ? disk->refuses_table(Observer::Linux, arguments_.has("gpt"))
                                             : std::optional<std::string>{}) {
            ladder_.breaks(Code::RootTableRefused, "the kernel sees no partitions: " + *why, {where},
                           screen_root_missing(root.written, ramdisk));
            return false;
        }
        if (auto loss = root_loss(machine_, root, ramdisk != nullptr)) {
            if (loss->certain) {
                ladder_.breaks(Code::RootNotFound, loss->text, {where, evidence_error(loss->error)},
                               screen_root_missing(root.written, ramdisk));
                return false;
            }
            driver_note_ = loss->text;
        }
        if (!root.volume->not_assembled) {
            auto layers = judge_layers(*root.volume, ramdisk, demand, arguments_);
            if (layers.state == State::Breaks) {
                if (auto& screen = layers.findings.front().symptom; screen.empty())
                    screen = screen_root_missing(root.written, ramdisk);
                layers.evidence.insert(layers.evidence.begin(), where);
                ladder_.set(Stage::Root, layers);
                return false;
            }
            if (layers.state == State::Unknown) driver_note_ = layers.text;
            else if (!layers.text.empty())
                driver_text_ = driver_text_.empty() ? layers.text : driver_text_ + "; " + layers.text;
        }
        if (no_subvolume_) {
            ladder_.breaks(Code::RootSubvolumeMissing, no_subvolume_->what, {where, evidence_error(*no_subvolume_)},
                           screen_mount_refused(root.written, "No such file or directory", ramdisk));
            return false;
        }
        auto mount =
            judge_root_mount(*root.volume, arguments_.value("rootflags").value_or(""), held_kernel_->value().release);
        if (const auto wrong = wrong_type(*root.volume); mount.state == State::Holds && wrong) {
            ladder_.breaks(Code::RootTypeWrong,
                           fmt::format("rootfstype={} does not fit {}, which holds {}", *wrong, root.volume->place,
                                       root.volume->info.name()),
                           {where, evidence_place(root.volume->place, *wrong, root.volume->info.name())},
                           screen_mount_refused(root.written, "Invalid argument", ramdisk));
            return false;
        }
        doubt_if_unreplayed(mount, *root.volume);
        mount.evidence.insert(mount.evidence.begin(), where);
        mount.findings.insert(mount.findings.end(), key_findings_.begin(), key_findings_.end());
        if (mount.state == State::Breaks) {
            // The driver's own words first, if it has any.
            auto& breaking = mount.findings.front();
            if (!breaking.symptom.empty()) breaking.symptom += '\n';
            const auto* reason = breaking.code == Code::RootUnreadable ? "Input/output error" : "Invalid argument";
            breaking.symptom += breaking.code == Code::RootVolumeIncomplete
                                    ? screen_root_missing(root.written, ramdisk)
                                    : screen_mount_refused(root.written, reason, ramdisk);
        }
        if (mount.state == State::Holds) {
            mount.text = fmt::format("root={} is {}: {}", root.written, root.volume->place, mount.text);
            if (!driver_text_.empty()) mount.text += "; " + driver_text_;
            if (root.depends_on_hardware) {
                mount.findings.push_back(make_finding(
                    Code::RootDeviceName,
                    fmt::format("root={} depends on how this machine's kernel names its disks", root.written),
                    {where}));
            }
            if (!driver_note_.empty()) {
                mount.state = State::Unknown;
                mount.text += "; " + driver_note_;
            }
        }
        ladder_.set(Stage::Root, mount);
        return mount.state == State::Holds || ((mount.state == State::Unknown || mount.state == State::Doubtful) &&
                                               root.volume->files(Observer::Linux) != nullptr);
    }

    const Machine& machine_;
    const MenuEntry& entry_;
    const Menu& menu_;
    Artifacts& artifacts_;
    Ladder& ladder_;
    Surroundings around_;
    VolumeRef medium_;
    Losses losses_;
    CommandLine arguments_;
    std::shared_ptr<const Result<KernelImage>> held_kernel_;
    std::optional<Error> no_subvolume_;
    std::vector<Finding> key_findings_;  ///< about encrypted volumes: what does not stop the way
    std::string driver_note_;
    std::string driver_text_;
};

}  // namespace

bool is_linux(const Start& start) { return std::holds_alternative<LinuxStart>(start); }

Step run_linux(const Start& start, const Before& /*before*/, Context& context, Ladder& ladder) {
    LinuxWalk(context.machine, std::get<LinuxStart>(start), *context.artifacts, ladder).run();
    return {};
}

}  // namespace herberge::walk
