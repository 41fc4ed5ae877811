// SPDX-License-Identifier: MIT
// A file system with another one mounted on one of its folders.
#include <herberge/files.hpp>

namespace herberge {

namespace {

/// Files of the one that is mounted bear this bit in their ids; no reader gives such ids itself.
constexpr FileId mark = FileId{1} << 63U;

class Mounted final : public FileSystem {
public:
    Mounted(std::shared_ptr<const FileSystem> base, FileId point, std::shared_ptr<const FileSystem> other)
        : base_(std::move(base)), point_(point), other_(std::move(other)) {}

    [[nodiscard]] const VolumeInfo& info() const override { return base_->info(); }
    [[nodiscard]] FileId root() const override { return base_->root(); }
    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        if (!is_other(file)) return base_->stat(file);
        if (other_ == nullptr) return FileInfo{.id = file, .type = FileType::Directory, .permissions = 0755};
        auto out = other_->stat(file & ~mark);
        if (out) out->id |= mark;
        return out;
    }
    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        if (!is_other(directory)) {
            auto out = base_->lookup(directory, name);
            return out && *out == point_ ? top() : out;
        }
        if (other_ == nullptr) return fail(ErrorKind::NotFound, "nothing lies there");
        auto out = other_->lookup(directory & ~mark, name);
        if (out) *out |= mark;
        return out;
    }
    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        if (is_other(directory) && other_ == nullptr) return std::vector<DirEntry>{};
        auto out = of(directory).list(directory & ~mark);
        if (!out) return out;
        for (auto& entry : *out) {
            if (is_other(directory)) entry.id |= mark;
            else if (entry.id == point_) entry.id = top();
        }
        return out;
    }
    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        return of(link).link_target(link & ~mark);
    }
    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        return of(file).open(file & ~mark, std::move(place));
    }
    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        if (is_other(file)) return fail(ErrorKind::Unsupported, "it lies on another volume, which is mounted here");
        return base_->extents(file);
    }
    [[nodiscard]] bool ignores_case() const override { return base_->ignores_case(); }
    [[nodiscard]] std::vector<Finding> mount_obstacles(std::string_view options) const override {
        return base_->mount_obstacles(options);
    }
    [[nodiscard]] std::optional<std::string> unreplayed() const override {
        if (auto why = base_->unreplayed()) return why;
        return other_ != nullptr ? other_->unreplayed() : std::nullopt;
    }
    [[nodiscard]] std::vector<Finding> remarks() const override { return base_->remarks(); }

private:
    [[nodiscard]] static bool is_other(FileId file) { return (file & mark) != 0; }
    /// Where nothing is mounted but memory, nothing has an id besides the folder.
    [[nodiscard]] const FileSystem& of(FileId file) const {
        return is_other(file) && other_ != nullptr ? *other_ : *base_;
    }
    [[nodiscard]] FileId top() const { return (other_ != nullptr ? other_->root() : 0) | mark; }

    std::shared_ptr<const FileSystem> base_;
    FileId point_;
    std::shared_ptr<const FileSystem> other_;
};

}  // namespace

std::shared_ptr<const FileSystem> mounted_on(std::shared_ptr<const FileSystem> base, FileId point,
                                             std::shared_ptr<const FileSystem> other) {
    return std::make_shared<const Mounted>(std::move(base), point, std::move(other));
}

}  // namespace herberge
