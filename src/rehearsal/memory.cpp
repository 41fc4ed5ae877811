// SPDX-License-Identifier: MIT
#include "rehearsal/memory.hpp"

#include <algorithm>

namespace herberge::rehearsal {

namespace {
constexpr std::array<std::uint8_t, Memory::page_size> empty_page{};
constexpr std::uint64_t most_size = std::uint64_t{2} << 30U;
}  // namespace

Memory::Memory(std::uint64_t size, std::uint64_t most_touched) : most_touched_(most_touched) {
    const auto count = static_cast<std::size_t>(std::min(size, most_size) / page_size);
    read_.resize(count, empty_page.data());
    write_.resize(count * (page_size / piece_size));
    pages_.resize(count);
}

Memory::Page* Memory::page_for(std::uint32_t number) {
    auto& page = pages_[number];
    if (page) return page.get();
    if (touched_ + page_size > most_touched_) {
        exhausted_ = true;
        return nullptr;
    }
    touched_ += page_size;
    page = std::make_unique<Page>();
    read_[number] = page->bytes.data();
    open_pieces(number);
    return page.get();
}

void Memory::open_pieces(std::uint32_t page) {
    constexpr std::uint32_t count = page_size / piece_size;
    for (std::uint32_t i = 0; i < count; ++i) write_[page * count + i] = pages_[page]->bytes.data() + i * piece_size;
}

void Memory::store_slowly(std::uint32_t address, std::uint32_t value, std::uint32_t size) {
    const std::uint32_t number = address / page_size, within = address % page_size;
    Page* page = page_for(number);
    if (page == nullptr) return;
    if (page->code) {
        bool hit = false;
        for (std::uint32_t i = 0; i < size; ++i) hit = hit || page->code->test(within + i);
        if (hit && code_written) code_written(address);
    }
    std::memcpy(page->bytes.data() + within, &value, size);
}

void Memory::store(std::uint32_t address, std::span<const std::uint8_t> bytes) {
    for (const auto byte : bytes) store(address++, byte);
}

bool Memory::move(std::uint32_t to, std::uint32_t from, std::uint32_t bytes, bool down) {
    to &= mask_;
    from &= mask_;
    const std::uint32_t into = to % piece_size, out_of = from % page_size;
    if (to / piece_size >= write_.size() || from / page_size >= read_.size() || bytes > piece_size - into ||
        bytes > page_size - out_of || (down ? from - to : to - from) < bytes)
        return false;
    std::uint8_t* const piece = write_[to / piece_size];
    if (piece == nullptr) return false;
    std::memmove(piece + into, read_[from / page_size] + out_of, bytes);
    return true;
}

void Memory::mark_code(std::uint32_t address, std::uint32_t length) {
    for (std::uint32_t i = 0; i < length; ++i) {
        const std::uint32_t at = (address + i) & mask_;
        if (at / page_size >= pages_.size()) continue;
        Page* page = page_for(at / page_size);
        if (page == nullptr) return;
        if (!page->code) page->code = std::make_unique<std::bitset<page_size>>();
        page->code->set(at % page_size);
        write_[at / piece_size] = nullptr;
    }
}

void Memory::unmark_code(std::uint32_t address) {
    const std::uint32_t number = (address & mask_) / page_size;
    if (number >= pages_.size() || !pages_[number] || !pages_[number]->code) return;
    pages_[number]->code.reset();
    open_pieces(number);
}

}  // namespace herberge::rehearsal
