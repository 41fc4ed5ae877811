// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include <herberge/change.hpp>

namespace herberge {

namespace {

/// Runs of bytes that stay are left out of a change where they are longer than this.
constexpr std::size_t most_equal = 16;

/// The parts of a change that change something.
void add_changes(int disk, std::uint64_t offset, const std::vector<std::uint8_t>& before,
                 const std::vector<std::uint8_t>& after, std::vector<Change>& out) {
    for (std::size_t i = 0; i < after.size();) {
        if (before[i] == after[i]) {
            ++i;
            continue;
        }
        std::size_t end = i + 1;
        for (std::size_t j = end; j < after.size() && j - end < most_equal; ++j)
            if (before[j] != after[j]) end = j + 1;
        const auto piece = [&](const std::vector<std::uint8_t>& bytes) {
            return std::vector<std::uint8_t>(bytes.begin() + static_cast<std::ptrdiff_t>(i),
                                             bytes.begin() + static_cast<std::ptrdiff_t>(end));
        };
        out.push_back({disk, offset + i, piece(before), piece(after)});
        i = end;
    }
}

}  // namespace

Patch Patch::undone() const {
    Patch out = *this;
    out.title = title.empty() ? std::string{} : "Undo: " + title;
    out.steps.clear();
    for (auto& change : out.changes) std::swap(change.before, change.after);
    return out;
}

std::uint64_t Patch::size() const {
    std::uint64_t out = 0;
    for (const auto& change : changes) out += change.after.size();
    return out;
}

Workshop::Workshop(const Machine& machine) : original_(machine) {
    for (const auto& disk : machine.disks) benches_.push_back({disk.number, disk.source, overlay(disk.source)});
}

Result<void> Workshop::write(int disk, std::uint64_t offset, std::span<const std::uint8_t> bytes) {
    const auto bench = std::ranges::find(benches_, disk, &Bench::number);
    if (bench == benches_.end())
        return fail(ErrorKind::NotFound, "there is no such disk", fmt::format("d{}", disk), {}, {});
    return bench->after->write(offset, bytes);
}

Result<void> Workshop::write(const ByteSource& source, std::uint64_t offset, std::span<const std::uint8_t> bytes) {
    if (bytes.empty()) return {};
    const auto there = source.bytes(offset, bytes.size());
    if (!there) return tl::unexpected(there.error());
    // They must lie on disks as they are: what is there must read the same as through all layers.
    const auto ranges = source.locate(offset, bytes.size());
    std::uint64_t covered = 0;
    for (const auto& range : ranges) {
        const auto bench = std::ranges::find(benches_, range.disk, &Bench::number);
        const auto plain = bench != benches_.end() && covered + range.length <= bytes.size()
                               ? bench->after->bytes(range.offset, range.length)
                               : fail(ErrorKind::Unsupported, "not on a disk", source.place());
        if (!plain || !std::equal(plain->begin(), plain->end(), there->begin() + static_cast<std::ptrdiff_t>(covered)))
            break;
        covered += range.length;
    }
    if (covered != bytes.size())
        return fail(ErrorKind::Unsupported, "these bytes do not lie on a disk as they are", source.place());
    std::size_t done = 0;
    for (const auto& range : ranges) {
        if (auto wrote = write(range.disk, range.offset, bytes.subspan(done, range.length)); !wrote) return wrote;
        done += range.length;
    }
    return {};
}

Result<void> Workshop::apply(const Patch& patch) {
    for (const auto& disk : patch.disks) {
        const auto source = this->disk(disk.number);
        if (source == nullptr)
            return fail(ErrorKind::NotFound, "the patch is for a disk that this machine has not",
                        fmt::format("d{}", disk.number));
        if (source->size() != disk.size)
            return fail(ErrorKind::Malformed, "the disk has another size than the patch is for",
                        fmt::format("d{}", disk.number), fmt::format("{} bytes", disk.size),
                        fmt::format("{} bytes", source->size()));
    }
    for (const auto& change : patch.changes) {
        const auto source = disk(change.disk);
        const auto there = source != nullptr
                               ? source->bytes(change.offset, change.before.size())
                               : fail(ErrorKind::NotFound, "the patch changes a disk that its header does not name",
                                      fmt::format("d{}", change.disk));
        if (!there) return tl::unexpected(there.error());
        if (*there != change.before)
            return fail(ErrorKind::Malformed, "what lies there is not what the patch expects",
                        DiskRange{change.disk, change.offset, change.before.size()}.text(),
                        hex(std::span(change.before).first(std::min<std::size_t>(16, change.before.size()))),
                        hex(std::span(*there).first(std::min<std::size_t>(16, there->size()))));
    }
    for (const auto& change : patch.changes)
        if (auto wrote = write(change.disk, change.offset, change.after); !wrote) return wrote;
    return {};
}

Source Workshop::disk(int number) const {
    const auto bench = std::ranges::find(benches_, number, &Bench::number);
    if (bench == benches_.end()) return nullptr;
    const auto laid = bench->after->changes();
    if (laid.empty()) return bench->before;
    // A copy: what is written later does not change what somebody holds.
    auto out = overlay(bench->before);
    for (const auto& [offset, bytes] : laid) (void)out->write(offset, bytes);
    return out;
}

Machine Workshop::machine() const {
    Machine out;
    for (const auto& disk : original_.disks) {
        out.disks.push_back(inspect_disk(this->disk(disk.number), disk.number, disk.path));
        if (disk.optical) into_optical_drive(out.disks.back());
    }
    out.more_layers = original_.more_layers;
    assemble_layers(out);
    return out;
}

Patch Workshop::patch(std::string title, std::vector<std::string> steps) const {
    Patch out;
    out.title = std::move(title);
    out.steps = std::move(steps);
    for (const auto& bench : benches_) {
        const std::size_t so_far = out.changes.size();
        for (const auto& [offset, after] : bench.after->changes()) {
            // What cannot be read is replaced all the same: its bytes before are told as zeros.
            const auto before = bench.before->bytes(offset, after.size(), after.size());
            add_changes(bench.number, offset, before.value_or(std::vector<std::uint8_t>(after.size())), after,
                        out.changes);
        }
        if (out.changes.size() > so_far) out.disks.push_back({bench.number, bench.before->size()});
    }
    return out;
}

Workshop Workshop::copy() const {
    Workshop out(original_);
    for (std::size_t i = 0; i < benches_.size(); ++i)
        for (const auto& [offset, bytes] : benches_[i].after->changes())
            (void)out.benches_[i].after->write(offset, bytes);
    return out;
}

bool Workshop::changed() const { return !patch({}, {}).empty(); }

}  // namespace herberge
