// SPDX-License-Identifier: MIT
// RAM of the emulated PC, in pages that are made when they are first written.
#pragma once

#include <array>
#include <bitset>
#include <concepts>
#include <cstdint>
#include <cstring>
#include <functional>
#include <memory>
#include <span>
#include <vector>

namespace herberge::rehearsal {

/// Little-endian memory from address 0 on. Reads beyond its end give ones, writes there are lost; nothing an address
/// can be reaches outside of it. Not for several threads.
class Memory {
public:
    static constexpr std::uint32_t page_size = 4096;
    /// Writes are watched by pieces of this size: code and data often share a page.
    static constexpr std::uint32_t piece_size = 128;

    /// `size`: bytes, rounded down to whole pages, at most 2 GiB. At most `most_touched` bytes are made.
    Memory(std::uint64_t size, std::uint64_t most_touched);

    /// T: std::uint8_t, std::uint16_t, std::uint32_t.
    template <std::unsigned_integral T>
    [[nodiscard]] T load(std::uint32_t address) const {
        address &= mask_;
        const std::uint32_t within = address % page_size;
        if (within + sizeof(T) <= page_size) [[likely]] {
            if (address / page_size >= read_.size()) return static_cast<T>(~T{0});
            T value;
            std::memcpy(&value, read_[address / page_size] + within, sizeof(T));  // guest and host are little-endian
            return value;
        }
        std::uint32_t value = 0;
        for (std::uint32_t i = 0; i < sizeof(T); ++i)
            value |= std::uint32_t{load<std::uint8_t>(address + i)} << (8 * i);
        return static_cast<T>(value);
    }
    template <std::unsigned_integral T>
    void store(std::uint32_t address, T value) {
        address &= mask_;
        const std::uint32_t within = address % piece_size;
        if (within + sizeof(T) <= piece_size) [[likely]] {
            if (address / piece_size >= write_.size()) return;
            if (std::uint8_t* piece = write_[address / piece_size]) [[likely]] {
                std::memcpy(piece + within, &value, sizeof(T));
                return;
            }
            store_slowly(address, value, sizeof(T));
            return;
        }
        for (std::uint32_t i = 0; i < sizeof(T); ++i)
            store(address + i, static_cast<std::uint8_t>(std::uint32_t{value} >> (8 * i)));
    }
    void store(std::uint32_t address, std::span<const std::uint8_t> bytes);
    /// Moves bytes of one page into one piece, as one after the other would be, from the lowest up or from the highest
    /// down; false, and nothing is done, where only single stores do: into code, into memory not made yet, into what is
    /// still to be read.
    bool move(std::uint32_t to, std::uint32_t from, std::uint32_t bytes, bool down);

    /// The line A20: off, bit 20 of every address is 0.
    void set_a20(bool on) { mask_ = on ? ~std::uint32_t{0} : ~(std::uint32_t{1} << 20U); }
    [[nodiscard]] bool a20() const { return mask_ == ~std::uint32_t{0}; }
    /// The address that is reached by this one.
    [[nodiscard]] std::uint32_t masked(std::uint32_t address) const { return address & mask_; }

    [[nodiscard]] std::uint64_t size() const { return read_.size() * std::uint64_t{page_size}; }
    /// Bytes made so far.
    [[nodiscard]] std::uint64_t touched() const { return touched_; }
    /// A write was lost because more would have been made than may be.
    [[nodiscard]] bool exhausted() const { return exhausted_; }

    /// Marks bytes as decoded code: `code_written` is told of the next write into one of them, before it is done.
    void mark_code(std::uint32_t address, std::uint32_t length);
    /// Takes all marks of a page back.
    void unmark_code(std::uint32_t address);
    std::function<void(std::uint32_t address)> code_written;

private:
    struct Page {
        std::array<std::uint8_t, page_size> bytes{};
        std::unique_ptr<std::bitset<page_size>> code;
    };
    Page* page_for(std::uint32_t number);
    void open_pieces(std::uint32_t page);
    void store_slowly(std::uint32_t address, std::uint32_t value, std::uint32_t size);

    std::vector<const std::uint8_t*> read_;
    std::vector<std::uint8_t*> write_;  ///< by pieces; null: not made yet, or it holds decoded code
    std::vector<std::unique_ptr<Page>> pages_;
    std::uint32_t mask_ = ~std::uint32_t{0};
    std::uint64_t touched_ = 0, most_touched_;
    bool exhausted_ = false;
};

}  // namespace herberge::rehearsal
