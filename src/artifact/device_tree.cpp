// SPDX-License-Identifier: MIT
#include "artifact/device_tree.hpp"

#include <fmt/format.h>
#include <libfdt.h>

#include "ondisk/uboot.hpp"

namespace herberge {

Result<DeviceTree> DeviceTree::open(const ByteSource& source, std::uint64_t at) {
    const auto header = source.load<ondisk::DeviceTreeHeader>(at);
    if (!header) return tl::unexpected(header.error());
    if (header->magic != FDT_MAGIC)
        return fail(ErrorKind::Malformed, "it does not begin with the mark of a device tree", source.place(),
                    "d0 0d fe ed", fmt::format("{:08x}", static_cast<std::uint32_t>(header->magic)));
    const std::uint64_t size = header->total_size;
    if (size < sizeof(*header))
        return fail(ErrorKind::Malformed, "its header gives a size that it cannot have", source.place(), {},
                    fmt::format("{} bytes", size));
    if (size > source.size() - at)
        return fail(ErrorKind::OutOfRange, "it ends before the size that its header gives", source.place(),
                    fmt::format("{} bytes", size), fmt::format("{} bytes", source.size() - at));
    auto bytes = source.bytes(at, size, most_bytes);
    if (!bytes) return tl::unexpected(bytes.error());
    DeviceTree out;
    out.bytes_ = std::move(*bytes);
    if (const int wrong = fdt_check_full(out.bytes_.data(), out.bytes_.size()); wrong != 0)
        return fail(ErrorKind::Malformed, fmt::format("its structure is damaged ({})", fdt_strerror(wrong)),
                    source.place());
    return out;
}

Result<DeviceTree> DeviceTree::with_overlay(const DeviceTree& overlay, std::uint64_t room) const {
    constexpr std::uint64_t most_room = std::uint64_t{16} << 20U;
    DeviceTree out;
    out.bytes_.resize(bytes_.size() + static_cast<std::size_t>(std::min(room, most_room)));
    // libfdt changes the overlay's numbers while it works.
    auto above = overlay.bytes_;
    int wrong = fdt_open_into(bytes_.data(), out.bytes_.data(), static_cast<int>(out.bytes_.size()));
    if (wrong == 0) wrong = fdt_overlay_apply(out.bytes_.data(), above.data());
    if (wrong == 0) return out;
    const char* name = fdt_strerror(wrong);
    return fail(wrong == -FDT_ERR_NOSPACE ? ErrorKind::TooLarge : ErrorKind::Malformed,
                wrong == -FDT_ERR_NOSPACE    ? "there is no room for it behind the tree (fdt resize makes some)"
                : wrong == -FDT_ERR_NOTFOUND ? "it refers to something that the tree does not have"
                                             : fmt::format("its structure does not allow it ({})", name),
                {}, {}, name);
}

int DeviceTree::node(std::string_view path) const {
    return std::max(-1, fdt_path_offset_namelen(bytes_.data(), path.data(),
                                                static_cast<int>(std::min<std::size_t>(path.size(), 4096))));
}

std::vector<int> DeviceTree::children(int node) const {
    constexpr std::size_t most = 65536;
    std::vector<int> out;
    for (int child = fdt_first_subnode(bytes_.data(), node); child >= 0 && out.size() < most;
         child = fdt_next_subnode(bytes_.data(), child))
        out.push_back(child);
    return out;
}

std::string DeviceTree::name(int node) const {
    int length = 0;
    const char* text = fdt_get_name(bytes_.data(), node, &length);
    return text != nullptr ? std::string(text, static_cast<std::size_t>(length)) : std::string{};
}

bool DeviceTree::has(int node, const std::string& property) const {
    int length = 0;
    return node >= 0 && fdt_getprop(bytes_.data(), node, property.c_str(), &length) != nullptr;
}

std::span<const std::uint8_t> DeviceTree::property(int node, const std::string& name) const {
    int length = 0;
    const void* data = node >= 0 ? fdt_getprop(bytes_.data(), node, name.c_str(), &length) : nullptr;
    if (data == nullptr || length < 0) return {};
    return {static_cast<const std::uint8_t*>(data), static_cast<std::size_t>(length)};
}

std::vector<std::string> DeviceTree::texts(int node, const std::string& name) const {
    std::vector<std::string> out;
    std::string one;
    for (const std::uint8_t byte : property(node, name)) {
        if (byte != 0) {
            one += static_cast<char>(byte);
            continue;
        }
        out.push_back(std::move(one));
        one.clear();
    }
    if (!one.empty()) out.push_back(std::move(one));
    return out;
}

std::string DeviceTree::text(int node, const std::string& name) const {
    auto all = texts(node, name);
    return all.empty() ? std::string{} : std::move(all.front());
}

std::optional<std::uint64_t> DeviceTree::number(int node, const std::string& name) const {
    const auto bytes = property(node, name);
    if (bytes.size() != 4 && bytes.size() != 8) return std::nullopt;
    std::uint64_t value = 0;
    for (const std::uint8_t byte : bytes) value = value << 8U | byte;
    return value;
}

std::uint64_t DeviceTree::offset_of(std::span<const std::uint8_t> part) const {
    return static_cast<std::uint64_t>(part.data() - bytes_.data());
}

}  // namespace herberge
