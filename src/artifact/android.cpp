// SPDX-License-Identifier: MIT
// Android's images of a kernel (Android's "Boot image header", "Vendor boot partitions").
#include <fmt/format.h>
#include <algorithm>

#include "artifact/boot_image.hpp"
#include "ondisk/android.hpp"

namespace herberge {

namespace {

bool begins(const ByteSource& source, std::string_view mark) {
    const auto head = source.bytes(0, mark.size());
    return head && std::equal(mark.begin(), mark.end(), head->begin());
}

template <std::size_t N>
std::string words_in(const ondisk::Bytes<N>& bytes) {
    return {bytes.begin(), std::ranges::find(bytes, std::uint8_t{0})};
}

bool is_page(std::uint64_t size) {
    constexpr std::uint64_t smallest = 512, largest = std::uint64_t{1} << 20U;
    return size >= smallest && size <= largest && (size & (size - 1)) == 0;
}

/// Parts one behind the other, each on pages of its own.
class Pages {
public:
    explicit Pages(std::uint64_t page) : page_(page) {}
    std::pair<std::uint64_t, std::uint64_t> next(std::uint64_t size) {
        const auto at = at_;
        at_ += (size + page_ - 1) / page_ * page_;
        return {at, size};
    }

private:
    std::uint64_t page_, at_ = 0;
};

std::optional<tl::unexpected<Error>> cut(const ByteSource& source,
                                         std::initializer_list<std::pair<std::uint64_t, std::uint64_t>> parts) {
    for (const auto& [at, size] : parts)
        if (size != 0 && (at > source.size() || size > source.size() - at))
            return fail(ErrorKind::OutOfRange, "it is cut short", source.place(), size_text(at + size),
                        size_text(source.size()));
    return std::nullopt;
}

tl::unexpected<Error> wrong_pages(const ByteSource& source, std::uint64_t page) {
    return fail(ErrorKind::Malformed, fmt::format("its pages have {} bytes", page), source.place(),
                "a power of two from 512 on", fmt::format("{}", page));
}

}  // namespace

bool is_android(const ByteSource& source) { return begins(source, "ANDROID!"); }

Result<AndroidImage> inspect_android(const ByteSource& source) {
    const auto head = source.load<ondisk::AndroidBootHead>(0);
    if (!head) return tl::unexpected(head.error());
    constexpr std::uint32_t newest = 4;
    AndroidImage out;
    out.version = head->header_version;
    if (out.version > newest)
        return fail(ErrorKind::Unsupported, fmt::format("its header has version {}", out.version), source.place());
    if (out.version >= 3) {
        const auto own = source.load<ondisk::AndroidBootHead3>(0);
        if (!own) return tl::unexpected(own.error());
        constexpr std::uint64_t page = 4096;
        Pages pages(page);
        out.arguments = words_in(own->arguments);
        pages.next(page);
        out.kernel = pages.next(own->kernel_size);
        out.ramdisk = pages.next(own->ramdisk_size);
    } else {
        if (!is_page(head->page_size)) return wrong_pages(source, head->page_size);
        Pages pages(head->page_size);
        out.arguments = words_in(head->arguments) + words_in(head->more_arguments);
        pages.next(head->page_size);
        out.kernel = pages.next(head->kernel_size);
        out.ramdisk = pages.next(head->ramdisk_size);
        out.second = pages.next(head->second_size);
        if (out.version >= 1) {
            const auto own = source.load<ondisk::AndroidBootHead2>(0);
            if (!own) return tl::unexpected(own.error());
            pages.next(own->recovery_tree_size);
            if (out.version == 2) out.tree = pages.next(own->tree_size);
        }
    }
    if (auto short_of = cut(source, {out.kernel, out.ramdisk, out.second, out.tree})) return *short_of;
    return out;
}

Result<AndroidVendorImage> inspect_android_vendor(const ByteSource& source) {
    const auto head = source.load<ondisk::AndroidVendorHead>(0);
    if (!head) return tl::unexpected(head.error());
    if (!begins(source, "VNDRBOOT"))
        return fail(ErrorKind::Malformed, "it does not begin with the mark of a vendor's part", source.place());
    if (!is_page(head->page_size)) return wrong_pages(source, head->page_size);
    AndroidVendorImage out;
    out.arguments = words_in(head->arguments);
    constexpr std::uint64_t head_3 = 2112, head_4 = 2128;
    Pages pages(head->page_size);
    pages.next(head->header_version > 3 ? head_4 : head_3);
    out.ramdisk = pages.next(head->ramdisk_size);
    out.tree = pages.next(head->tree_size);
    if (auto short_of = cut(source, {out.ramdisk, out.tree})) return *short_of;
    return out;
}

}  // namespace herberge
