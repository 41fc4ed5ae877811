// SPDX-License-Identifier: MIT
// What a boot command takes out of an image tree (boot/image-fit.c, boot/image-fit-sig.c, boot/bootm.c of 2023.01).
#include <fmt/format.h>
#include <algorithm>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

constexpr const char* no_kernel = "ERROR: can't get kernel image!";
constexpr const char* no_tree =
    "ERROR: Did not find a cmdline Flattened Device Tree\nCould not find a valid device tree";

/// The first node below another whose name has an @ (boot/image-fit.c, fdt_check_no_at); empty: none.
std::string with_an_at(const DeviceTree& tree, int node, int depth = 0) {
    constexpr int most_depth = 16;
    for (const int child : tree.children(node)) {
        auto name = tree.name(child);
        if (name.find('@') != std::string::npos) return name;
        if (depth < most_depth)
            if (auto below = with_an_at(tree, child, depth + 1); !below.empty()) return below;
    }
    return {};
}

/// One image tree, its configuration, and the entry that comes of it.
class TreeReader {
public:
    TreeReader(const Loaded& held, const Fit& fit, const Build& build, bool verifies, MenuEntry& entry)
        : held_(held), fit_(fit), build_(build), verifies_(verifies), entry_(entry), place_(held.file.place) {}

    [[nodiscard]] bool stopped() const { return entry_.stop.has_value(); }
    /// What stopped it is no refusal: U-Boot starts that, and does not come back.
    [[nodiscard]] bool dead() const { return dead_; }

    void refused(Code code, std::string text, std::vector<Evidence> evidence, std::string screen) {
        refuse(entry_, make_finding(code, std::move(text), std::move(evidence), std::move(screen)));
    }

    void signature(const FitConfiguration& chosen) {
        if (!verifies_) return;
        told(check_configuration(fit_, chosen.name, build_.keys), fmt::format("the configuration {}", chosen.name));
    }

    /// A part that the configuration names: there, named as U-Boot allows, its hashes and signatures as demanded.
    std::optional<FitImage> component(const FitConfiguration& chosen, const std::string& name, std::string_view what,
                                      Code code) {
        auto out = fit_.image(name);
        if (!out || !out->data_there) {
            refused(Code::UbootPartMissing,
                    fmt::format("the configuration {} of {} names the {} {}, and {}", chosen.name, place_, what,
                                printable(name), out ? "its data are not there" : "there is none"),
                    {evidence_place(place_, fmt::format("/images/{}", name), out ? "no data" : "absent")},
                    what == "kernel" ? fmt::format("Could not find subimage node type 'kernel'\n{}", no_kernel)
                                     : fmt::format("Could not find configuration node\n{}", no_kernel));
            return std::nullopt;
        }
        if (!verifies_) return out;
        told(check_image(fit_, *out, build_.keys), fmt::format("the {} {}", what, name));
        for (const auto& hash : out->hashes) {
            if (stopped()) break;
            if (!hash.matches) wrong_hash(*out, hash, what, code);
        }
        return stopped() ? std::nullopt : out;
    }

    /// What the kernel's node must say. `ram_at`: where memory begins; 0: not known.
    void kernel(const FitImage& kernel, std::uint64_t ram_at, bool arm64) {
        const auto wrong = [&](const std::string& text, std::string expected, std::string found, std::string screen) {
            refused(Code::UbootImageRefused, fmt::format("the kernel {} of {} {}", kernel.name, place_, text),
                    {evidence_place(fmt::format("{}/images/{}", place_, kernel.name), std::move(expected),
                                    std::move(found))},
                    std::move(screen));
        };
        if (kernel.os != "linux")
            return wrong("is for another system", "os linux", kernel.os, "No Linux kernel image found");
        if (kernel.type != "kernel" && kernel.type != "kernel_noload")
            return wrong("is of another type", "type kernel", kernel.type, "No Linux kernel image found");
        if (kernel.compression.empty())
            return wrong("does not say how it is packed", "a compression, such as none", "absent",
                         "Can't get image compression!");
        const bool packed = kernel.compression != "none";
        const auto head = held_.bytes->bytes(kernel.offset, std::min<std::uint64_t>(8, kernel.length));
        const auto found = head && head->size() >= 6 ? recognise_board_compression(*head) : Compression::None;
        if (packed && found == Compression::None)
            return wrong(
                fmt::format("is said to be packed by {}, and is not", kernel.compression), kernel.compression,
                head ? hex(*head) : std::string{},
                fmt::format("{} compressed: uncompress error -1\nMust RESET board to recover", kernel.compression));
        // An arm64 kernel that nobody unpacks must be one as it is.
        if (kernel.type == "kernel_noload" && arm64 && !has_mark(kernel))
            return wrong("lacks the mark of a kernel image", "41 52 4d 64 at its byte 56", "another",
                         "Bad Linux ARM64 Image magic!");
        if (kernel.type != "kernel") return;
        if (!kernel.load || !kernel.entry)
            return wrong("does not say where it is to be put", "load and entry", "absent", "Can't get load address");
        const char* abort = "\"Synchronous Abort\" handler\nResetting CPU ...";
        const std::uint64_t room = packed ? std::uint64_t{256} << 20U : kernel.length;
        const bool outside = ram_at != 0 && *kernel.load < ram_at;
        const bool beside = *kernel.entry < *kernel.load || *kernel.entry - *kernel.load >= room;
        dead_ = !stopped() && (outside || beside);
        if (outside)
            return wrong("is to be put where the board has no memory", fmt::format("from {:#x} on", ram_at),
                         fmt::format("load {:#x}", *kernel.load), abort);
        if (beside)
            return wrong("is entered where it does not lie",
                         fmt::format("between {:#x} and {:#x}", *kernel.load, *kernel.load + room),
                         fmt::format("entry {:#x}", *kernel.entry), abort);
    }

    void ramdisk(const FitConfiguration& chosen) {
        if (!fit_.image(chosen.ramdisk)) {
            // One that is named and absent is no reason to stop.
            FileReference missing = held_.file;
            missing.written = chosen.ramdisk;
            missing.miss(Lack::Absent, fmt::format("Could not find subimage node '{}'", chosen.ramdisk));
            entry_.ramdisks.push_back(std::move(missing));
            return;
        }
        const auto image = component(chosen, chosen.ramdisk, "RAM disk", Code::UbootRamdiskRefused);
        if (!image) return;
        if (image->type != "ramdisk" || image->os != "linux")
            return refused(
                Code::UbootRamdiskRefused, fmt::format("the RAM disk {} of {} is of another kind", image->name, place_),
                {evidence_place(fmt::format("{}/images/{}", place_, image->name), "type ramdisk, os linux",
                                fmt::format("type {}, os {}", image->type, image->os.empty() ? "absent" : image->os))},
                "Ramdisk image is corrupt or invalid");
        entry_.ramdisks.push_back(part_of(held_, image->offset, image->length));
    }

    /// The first is the tree; those behind it are laid over it.
    void trees(const FitConfiguration& chosen) {
        std::optional<DeviceTree> tree;
        for (const auto& name : chosen.trees) {
            const auto image = component(chosen, name, "device tree", Code::UbootTreeRefused);
            if (!image) return;
            if (image->type != "flat_dt")
                return refused(Code::UbootTreeRefused,
                               fmt::format("the device tree {} of {} is of another kind", image->name, place_),
                               {evidence_place(fmt::format("{}/images/{}", place_, image->name), "type flat_dt",
                                               fmt::format("type {}", image->type))},
                               no_tree);
            entry_.devicetree.push_back(part_of(held_, image->offset, image->length));
            if (!image->compression.empty() && image->compression != "none") continue;
            auto sound =
                DeviceTree::open(*slice(held_.bytes, image->offset, image->length, fmt::format("{}/{}", place_, name)));
            if (!sound)
                return refused(Code::UbootTreeRefused,
                               fmt::format("the device tree {} of {} is damaged: {}", name, place_, sound.error().what),
                               {evidence_error(sound.error())}, "FDT creation failed!");
            if (!tree) {
                tree = std::move(*sound);
                if (chosen.trees.size() > 1 && !build_.overlays)
                    return refused(Code::UbootTreeRefused,
                                   fmt::format("the configuration {} of {} lays device trees over one another, which "
                                               "this U-Boot was built without",
                                               chosen.name, place_),
                                   {evidence_place(fmt::format("{}/configurations/{}", place_, chosen.name),
                                                   "one device tree", fmt::format("{}", chosen.trees.size()))},
                                   "config with overlays but CONFIG_OF_LIBFDT_OVERLAY not set\nCould not find a valid "
                                   "device tree");
                continue;
            }
            lay_over(*tree, *sound, name, chosen.trees.front());
            if (stopped()) return;
        }
    }

private:
    [[nodiscard]] bool has_mark(const FitImage& kernel) const {
        constexpr std::string_view mark = "ARM\x64";
        constexpr std::uint64_t mark_at = 56;
        const auto bytes = held_.bytes->bytes(kernel.offset + mark_at, mark.size());
        return bytes && std::string(bytes->begin(), bytes->end()) == mark;
    }

    void lay_over(DeviceTree& tree, const DeviceTree& overlay, const std::string& name, const std::string& base) {
        // U-Boot makes room by itself here.
        constexpr std::uint64_t room = std::uint64_t{64} << 10U;
        auto laid = tree.with_overlay(overlay, overlay.size() + room);
        if (!laid)
            return refused(
                Code::UbootTreeRefused,
                fmt::format("the device tree {} of {} is to be laid over {}, and does not fit it: {}", name, place_,
                            base, laid.error().what),
                {evidence_place(fmt::format("{}/images/{}", place_, name), "an overlay that fits", laid.error().found)},
                fmt::format("failed on fdt_overlay_apply(): {}\n{}", laid.error().found, no_tree));
        tree = std::move(*laid);
    }

    void wrong_hash(const FitImage& image, const FitImage::Hash& hash, std::string_view what, Code code) {
        refused(code,
                hash.known
                    ? fmt::format("the {} {} of {} fails its {}", what, image.name, place_, hash.algorithm)
                    : fmt::format("the {} {} of {} has a hash that U-Boot does not compute ({})", what, image.name,
                                  place_, hash.algorithm.empty() ? "none named" : printable(hash.algorithm)),
                {evidence_bytes(*held_.bytes, image.offset,
                                std::min(image.length, held_.size - std::min(image.offset, held_.size)), hash.stored,
                                hash.computed)},
                fmt::format("Verifying Hash Integrity ... {} error!\nBad hash value for '{}' hash node in '{}' "
                            "image node\nBad Data Hash",
                            hash.algorithm, hash.node, image.name));
    }

    /// What a check of signatures comes to for the entry.
    void told(const SignatureCheck& check, const std::string& what) {
        if (check.outcome == SignatureCheck::Outcome::Unknown) {
            entry_.unread =
                fmt::format("whether {} of {} is signed by {} is not known: {}", what, place_, check.key, check.text);
            return;
        }
        if (check.outcome == SignatureCheck::Outcome::Holds) return;
        refused(Code::UbootSignatureRefused,
                fmt::format("U-Boot demands that {} of {} is signed by {}: {}", what, place_, check.key, check.text),
                {evidence_place(place_ + check.node, fmt::format("a signature by {}", check.key), check.text)},
                fmt::format("Failed to verify required signature '{}'\nBad Data Hash\n{}", check.key, no_kernel));
    }

    const Loaded& held_;
    const Fit& fit_;
    const Build& build_;
    bool verifies_;
    bool dead_ = false;
    MenuEntry& entry_;
    const std::string& place_;
};

}  // namespace

void Console::take_fit(const Loaded& held, const std::string& configuration, MenuEntry& entry, std::string& ramdisk,
                       std::string& tree) {
    const auto fit = Fit::open(held.bytes);
    const std::string& place = held.file.place;
    const auto unusable = [&](std::string text, Evidence evidence) {
        refuse(entry, make_finding(Code::UbootImageRefused, std::move(text), {std::move(evidence)},
                                   fmt::format("Wrong Image Format for bootm command\n{}", no_kernel)));
    };
    if (!fit)
        return unusable(fmt::format("the image tree {} is refused: {}", place, fit.error().what),
                        evidence_error(fit.error()));
    if (!fit->lacks().empty())
        return unusable(fmt::format("the image tree {} is refused: it has no {}", place, fit->lacks()),
                        evidence_place(place, "/" + fit->lacks(), "absent"));
    if (const auto name = build_.plain_names ? with_an_at(fit->tree(), fit->tree().node("/")) : std::string{};
        !name.empty())
        return refuse(
            entry,
            make_finding(Code::UbootImageRefused,
                         fmt::format("the image tree {} is refused: its node {} has an @ in its name, which a "
                                     "U-Boot that verifies signatures does not allow",
                                     place, printable(name)),
                         {evidence_place(place, "names without @", printable(name))},
                         fmt::format("Bad FIT kernel image format! (err=-99)\nSignature checking prevents use of "
                                     "unit addresses (@) in nodes\n{}",
                                     no_kernel)));
    const auto board = words_of(board_.compatible);
    const FitConfiguration* chosen = nullptr;
    if (!configuration.empty()) chosen = fit->find(configuration);
    // A U-Boot that goes by the best match goes by nothing else (CONFIG_FIT_BEST_MATCH, boot/image-fit.c).
    else chosen = board.empty() ? fit->find(fit->default_configuration()) : fit->best_match(board);
    TreeReader reader(held, *fit, build_, verifies(), entry);
    if (chosen == nullptr) {
        const std::string wanted = !configuration.empty() ? configuration
                                   : board.empty()        ? fit->default_configuration()
                                                          : std::string{};
        return reader.refused(
            Code::UbootPartMissing,
            wanted.empty() ? fmt::format("{} has no configuration for this board{}", place,
                                         board.empty() ? "" : fmt::format(" ({})", board.front()))
                           : fmt::format("{} has no configuration {}", place, printable(wanted)),
            {evidence_place(place, wanted.empty() ? "/configurations" : fmt::format("/configurations/{}", wanted),
                            "absent"),
             here(configuration)},
            fmt::format("Could not find configuration node\n{}", no_kernel));
    }
    entry.title = chosen->description.empty() ? chosen->name : chosen->description;
    entry.id = chosen->name;
    reader.signature(*chosen);
    if (reader.stopped()) return;
    const auto kernel = reader.component(*chosen, chosen->kernel, "kernel", Code::UbootImageRefused);
    if (!kernel) return;
    entry.kernel.push_back(part_of(held, kernel->offset, kernel->length));
    reader.kernel(*kernel, board_.ram_at, board_.processor == Processor::Arm64);
    dead_ = reader.dead();
    if (const auto packing = fit_compression(kernel->compression); !reader.stopped() && packing != Compression::None)
        if (auto why = cannot_unpack(held, kernel->offset, kernel->length, packing))
            return refuse(entry, std::move(*why));
    for (const auto& name : chosen->loadables)
        if (!reader.stopped()) (void)reader.component(*chosen, name, "loadable", Code::UbootImageRefused);
    if (!reader.stopped() && !chosen->ramdisk.empty() && ramdisk.empty()) {
        ramdisk = "-";
        reader.ramdisk(*chosen);
    }
    if (reader.stopped() || !tree.empty()) return;
    if (!chosen->trees.empty()) tree = "-";
    // One that is named and absent is passed over, and none is left then.
    if (dies_without_tree() && !chosen->trees.empty() && !fit->image(chosen->trees.front()))
        return take_down(
            entry, make_finding(Code::UbootTreeRefused,
                                fmt::format("the configuration {} of {} names the device tree {}, and there is none",
                                            chosen->name, place, printable(chosen->trees.front())),
                                {evidence_place(place, "/images/" + printable(chosen->trees.front()), "absent")},
                                "FDT and ATAGS support not compiled in\nresetting ..."));
    reader.trees(*chosen);
}

}  // namespace herberge::loader::uboot
