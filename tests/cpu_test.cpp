// SPDX-License-Identifier: MIT
// The CPU of the rehearsal, instruction by instruction on states by chance: sums, shifts and bits against the processor
// that runs this test, where that is an x86; addresses, the stack, strings and jumps against the packaged library
// libx86emu. Faults, limits, descriptors and code that writes over itself by hand, from the Intel SDM.
// HERBERGE_CPU_ROUNDS: how many states of each (20,000 unless it says otherwise).
#include <gtest/gtest.h>
#include <sys/mman.h>
#include <x86emu.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <random>

#include "rehearsal/cpu/cpu.hpp"

using namespace herberge::rehearsal;

namespace {

using Code = std::vector<std::uint8_t>;

struct Chance {
    std::mt19937 engine;
    unsigned operator()() { return static_cast<unsigned>(engine()); }
};

unsigned rounds() {
    const char* told = std::getenv("HERBERGE_CPU_ROUNDS");
#ifdef HERBERGE_SANITIZED
    constexpr unsigned usual = 2'000;  // fifty times as slow then
#else
    constexpr unsigned usual = 20'000;
#endif
    return told != nullptr ? static_cast<unsigned>(std::strtoul(told, nullptr, 10)) : usual;
}

struct TestPorts : CpuPorts {
    std::uint32_t port_in(std::uint16_t port, unsigned /*size*/) override { return port * 0x01010101U; }
    void port_out(std::uint16_t port, std::uint32_t value, unsigned size) override {
        written.push_back({port, value, size});
    }
    std::array<std::uint32_t, 4> cpuid(std::uint32_t leaf) override { return {leaf, 1, 2, 3}; }
    struct Out {
        std::uint16_t port;
        std::uint32_t value;
        unsigned size;
        friend bool operator==(const Out&, const Out&) = default;
    };
    std::vector<Out> written;
};

constexpr std::uint32_t memory_size = 1U << 21U;
constexpr std::uint32_t code_at = 0x10100;

/// What both start from, and what they must end with.
struct State {
    std::array<std::uint32_t, 8> gpr{};
    std::uint32_t flags = 0, eip = 0;
    std::array<std::uint16_t, 6> selectors{};
    int fault = -1;
};

/// Ours; an exception has no handler, and stops it.
class Own {
public:
    void run(State& s, bool flat) {
        cpu.stop(CpuStop::None);
        std::ranges::copy(s.gpr, cpu.gpr.begin());
        cpu.cr0 = flat ? 0x11 : 0x10;
        for (unsigned i = 0; i < 6; ++i) {
            cpu.segments[i] = {};
            cpu.segments[i].selector = s.selectors[i];
            cpu.segments[i].base = flat ? 0 : s.selectors[i] * 16U;
            cpu.segments[i].last = flat ? 0xFFFFFFFF : 0xFFFF;
            cpu.segments[i].big = flat;
        }
        cpu.idt = {0, 0, 0};
        cpu.eip = s.eip;
        cpu.set_eflags(s.flags);
        cpu.step();
        std::copy_n(cpu.gpr.begin(), 8, s.gpr.begin());
        for (unsigned i = 0; i < 6; ++i) s.selectors[i] = cpu.segments[i].selector;
        s.eip = cpu.eip;
        s.flags = cpu.eflags();
        s.fault = cpu.stopped() == CpuStop::Fault ? std::stoi(cpu.why().substr(10)) : -1;
    }
    TestPorts ports;
    Memory ram{memory_size, memory_size};
    Cpu cpu{ram, ports};
};

std::string text_of(std::span<const std::uint8_t> code) {
    std::string out;
    for (const auto byte : code) {
        char digits[4];
        std::snprintf(digits, sizeof digits, "%02x ", byte);
        out += digits;
    }
    return out;
}

/// Flags that an instruction leaves undefined (SDM volume 2, "Flags Affected"). `third`: the byte behind the opcode.
std::uint32_t undefined_flags(std::uint8_t first, std::uint8_t second, std::uint8_t third, unsigned count) {
    using namespace flag;
    const unsigned field = third >> 3U & 7U;
    if (first == 0x0F) {
        if (second == 0xA3 || second == 0xAB || second == 0xB3 || second == 0xBB || second == 0xBA)
            return overflow | sign | adjust | parity;
        if (second == 0xA4 || second == 0xA5 || second == 0xAC || second == 0xAD)
            return count == 0 ? 0 : count == 1 ? adjust : adjust | overflow;
        if (second == 0xAF) return sign | zero | adjust | parity;
        if (second == 0xBC || second == 0xBD) return carry | overflow | sign | adjust | parity;
        return 0;
    }
    if (first < 0x40) {
        const unsigned row = first >> 3U;
        if ((first & 7U) < 6) return row == 1 || row == 4 || row == 6 ? adjust : 0;
        return first == 0x27 || first == 0x2F   ? overflow
               : first == 0x37 || first == 0x3F ? overflow | sign | zero | parity
                                                : 0;
    }
    if (first >= 0x80 && first <= 0x83) return field == 1 || field == 4 || field == 6 ? adjust : 0;
    if (first == 0x84 || first == 0x85 || first == 0xA8 || first == 0xA9) return adjust;
    if (first == 0xD4 || first == 0xD5) return overflow | adjust | carry;
    if (first == 0x69 || first == 0x6B) return sign | zero | adjust | parity;
    if (first == 0xC0 || first == 0xC1 || (first >= 0xD0 && first <= 0xD3)) {
        if (count == 0) return 0;
        return (field < 4 ? 0 : adjust) | (count == 1 ? 0 : overflow);
    }
    if (first == 0xF6 || first == 0xF7) {
        if (field < 2) return adjust;
        if (field == 4 || field == 5) return sign | zero | adjust | parity;
        if (field == 6 || field == 7) return arithmetic;
    }
    return 0;
}
/// The count of a shift; 99: it is none.
unsigned shift_count(std::span<const std::uint8_t> code, std::uint8_t first, std::uint8_t second, std::uint32_t ecx) {
    if (first == 0xD0 || first == 0xD1) return 1;
    if (first == 0xD2 || first == 0xD3) return ecx & 31U;
    if (first == 0xC0 || first == 0xC1) return code.back() & 31U;
    if (first == 0x0F && (second == 0xA4 || second == 0xAC)) return code.back() & 31U;
    if (first == 0x0F && (second == 0xA5 || second == 0xAD)) return ecx & 31U;
    return 99;
}

// --- against the processor at hand ----------------------------------------------------------------------------------

#if defined(__x86_64__)

/// Runs one instruction that touches no memory and not the stack pointer.
class Processor {
public:
    Processor() {
        page_ = ::mmap(nullptr, 4096, PROT_READ | PROT_WRITE | PROT_EXEC, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    }
    ~Processor() {
        if (page_ != MAP_FAILED) ::munmap(page_, 4096);
    }
    Processor(const Processor&) = delete;
    Processor& operator=(const Processor&) = delete;
    [[nodiscard]] bool there() const { return page_ != MAP_FAILED; }

    void run(State& s, std::span<const std::uint8_t> instruction) const {
        // push rbx; push rbp; push rdi; mov r8, rdi; mov eax..edi, [r8 + 4 n] without esp; push [r8 + 40]; popfq
        Code code = {0x53, 0x55, 0x57, 0x49, 0x89, 0xF8};
        const auto move = [&](std::uint8_t opcode) {
            for (unsigned i = 0; i < 8; ++i)
                if (i != ESP)
                    code.insert(code.end(), {0x41, opcode, static_cast<std::uint8_t>(0x40U | i << 3U),
                                             static_cast<std::uint8_t>(4 * i)});
        };
        code.insert(code.end(), {0x41, 0xFF, 0x70, 40, 0x9D});
        const auto flags = code;
        code.resize(6);
        move(0x8B);
        code.insert(code.end(), flags.begin() + 6, flags.end());
        code.insert(code.end(), instruction.begin(), instruction.end());
        // pushfq; pop r9; mov [r8 + 40], r9; and back.
        code.insert(code.end(), {0x9C, 0x41, 0x59, 0x4D, 0x89, 0x48, 40});
        move(0x89);
        code.insert(code.end(), {0x5F, 0x5D, 0x5B, 0xC3});
        std::memcpy(page_, code.data(), code.size());
        struct {
            std::uint32_t gpr[10];
            std::uint64_t flags;
        } view{};
        static_assert(offsetof(decltype(view), flags) == 40);
        std::ranges::copy(s.gpr, view.gpr);
        view.flags = s.flags | flag::always;
        reinterpret_cast<void (*)(void*)>(page_)(&view);
        for (unsigned i = 0; i < 8; ++i)
            if (i != ESP) s.gpr[i] = view.gpr[i];
        s.flags = static_cast<std::uint32_t>(view.flags);
    }

private:
    void* page_;
};

/// An instruction on registers alone that means the same in 32-bit and 64-bit code.
Code by_chance(Chance& random, std::uint8_t& first, std::uint8_t& second, std::uint8_t& third) {
    static constexpr std::uint8_t with_operand[] = {
        0x00, 0x01, 0x02, 0x03, 0x80, 0x81, 0x83, 0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8A, 0x8B, 0xC0, 0xC1,
        0xD0, 0xD1, 0xD2, 0xD3, 0xF6, 0xF7, 0xF6, 0xF7, 0xFE, 0xFF, 0x69, 0x6B, 0xC6, 0xC7, 0x0F, 0x0F, 0x0F};
    static constexpr std::uint8_t plain[] = {0x04, 0x05, 0x98, 0x99, 0xA8, 0xA9, 0xF5, 0xF8, 0xF9, 0x90, 0xB0, 0xB8};
    static constexpr std::uint8_t two[] = {0x40, 0x90, 0xA3, 0xAB, 0xB3, 0xBB, 0xBA, 0xA4, 0xA5, 0xAC, 0xAD, 0xAF,
                                           0xB0, 0xB1, 0xB6, 0xB7, 0xBE, 0xBF, 0xBC, 0xBD, 0xC0, 0xC1, 0xC8};
    const auto pick = [&](const auto& list) { return list[random() % std::size(list)]; };
    Code out;
    const bool narrow = random() % 3 == 0;
    if (narrow) out.push_back(0x66);
    const auto immediate = [&](bool byte) {
        const unsigned size = byte ? 1 : narrow ? 2 : 4;
        for (unsigned i = 0; i < size; ++i) out.push_back(static_cast<std::uint8_t>(random()));
    };
    second = third = 0;
    if (random() % 8 == 0) {
        first = pick(plain);
        if (first == 0x04 || first == 0x05) first |= static_cast<std::uint8_t>(random() % 8 << 3U);
        unsigned low = random() % 8;
        if (low == ESP) low = 0;
        if (first == 0x90 || first == 0xB0 || first == 0xB8) first |= static_cast<std::uint8_t>(low);
        out.push_back(first);
        if ((first < 0x40 && (first & 1U) == 0) || first == 0xA8 || (first & 0xF8U) == 0xB0) immediate(true);
        else if (first < 0x40 || first == 0xA9 || (first & 0xF8U) == 0xB8) immediate(false);
        return out;
    }
    first = pick(with_operand);
    if (first < 4) first |= static_cast<std::uint8_t>(random() % 8 << 3U);
    out.push_back(first);
    bool bytes = (first & 1U) == 0 && first != 0x0F;
    if (first == 0x0F) {
        second = pick(two);
        if (second == 0x40 || second == 0x90) second |= static_cast<std::uint8_t>(random() % 16);
        if (second == 0xC8) second |= static_cast<std::uint8_t>(random() % 4);  // up to EBX
        out.push_back(second);
        if (second >= 0xC8) return narrow ? Code{0x98} : out;  // of words it is undefined
        bytes = (second & 0xF0U) == 0x90 || second == 0xB0 || second == 0xC0;
    }
    unsigned reg = random() % 8, rm = random() % 8;
    const bool source_byte = first == 0x0F && (second == 0xB6 || second == 0xBE);
    if (!bytes && rm == ESP && !source_byte) rm = EBP;
    const bool group = first == 0xF6 || first == 0xF7 || first == 0xFE || first == 0xFF || (first & 0xFCU) == 0x80 ||
                       first == 0xC0 || first == 0xC1 || (first & 0xFCU) == 0xD0 || second == 0xBA;
    if (!bytes && !group && reg == ESP) reg = ESI;
    if (first == 0xFE || first == 0xFF) reg %= 2;
    if (first == 0xC6 || first == 0xC7) reg = 0;
    if (second == 0xBA) reg |= 4U;
    third = static_cast<std::uint8_t>(0xC0U | reg << 3U | rm);
    out.push_back(third);
    if (first == 0x80 || first == 0x83 || first == 0xC0 || first == 0xC1 || first == 0x6B || first == 0xC6 ||
        second == 0xBA || second == 0xA4 || second == 0xAC || (first == 0xF6 && reg < 2))
        immediate(true);
    else if (first == 0x81 || first == 0x69 || first == 0xC7 || (first == 0xF7 && reg < 2)) immediate(false);
    return out;
}

TEST(CpuAgainstProcessor, SumsShiftsAndBits) {
    const Processor processor;
    if (!processor.there()) GTEST_SKIP() << "no memory may be executed here";
    Own own;
    Chance random{std::mt19937(20'261'130)};
    for (unsigned n = 0; n < rounds(); ++n) {
        std::uint8_t first = 0, second = 0, third = 0;
        const Code code = by_chance(random, first, second, third);
        State s;
        for (auto& g : s.gpr) {
            g = random();
            // The edges more often than chance has them.
            if (random() % 4 == 0)
                g = std::array{0U,      1U,      0x7FU,       0x80U,       0xFFU,      0x7FFFU,
                               0x8000U, 0xFFFFU, 0x7FFFFFFFU, 0x80000000U, 0xFFFFFFFFU}[random() % 11];
            if (random() % 8 == 0) g &= 0xFFU;
        }
        s.flags = flag::always | (random() & flag::arithmetic);
        s.eip = code_at;
        const unsigned count = shift_count(code, first, second, s.gpr[ECX]);
        const bool word_by_more = second >= 0xA4 && second <= 0xAD && code[0] == 0x66 && count > 16 && count != 99;
        if (word_by_more) continue;
        own.ram.store(code_at, code);
        State ours = s, theirs = s;
        own.run(ours, true);
        if (ours.fault == 0) {
            EXPECT_TRUE((first & 0xFEU) == 0xF6 && (third >> 3U & 7U) >= 6) << text_of(code);
            EXPECT_EQ(ours.eip, s.eip);
            EXPECT_EQ(ours.gpr, s.gpr);
            continue;  // the processor would end this test
        }
        processor.run(theirs, code);
        const std::uint32_t compared = flag::arithmetic & ~undefined_flags(first, second, third, count);
        ASSERT_EQ(ours.fault, -1) << text_of(code);
        ASSERT_EQ(ours.eip, s.eip + code.size()) << text_of(code);
        ASSERT_EQ(ours.flags & compared, theirs.flags & compared)
            << text_of(code) << std::hex << " from flags " << s.flags << ", count " << count;
        for (unsigned i = 0; i < 8; ++i)
            ASSERT_EQ(ours.gpr[i], theirs.gpr[i]) << text_of(code) << "register " << i << std::hex << " from "
                                                  << s.gpr[i] << ", ecx " << s.gpr[ECX] << " flags " << s.flags;
    }
}

#endif

// --- against the packaged library -----------------------------------------------------------------------------------

/// One instruction at a time, over memory of our own.
class Packaged {
public:
    Packaged() : emu_(x86emu_new(0, 0)) {
        emu_->_private = this;
        x86emu_set_memio_handler(emu_, on_memory);
        x86emu_set_intr_handler(emu_, [](x86emu_t* emu, u8 number, unsigned type) -> int {
            if ((type & 0xFFU) == INTR_TYPE_FAULT) static_cast<Packaged*>(emu->_private)->fault = number;
            return 0;
        });
    }
    ~Packaged() { x86emu_done(emu_); }
    Packaged(const Packaged&) = delete;
    Packaged& operator=(const Packaged&) = delete;

    void run(State& s, bool flat) {
        auto& r = emu_->x86;
        fault = -1;
        changed.clear();
        const std::array<u32*, 8> registers = {&r.R_EAX, &r.R_ECX, &r.R_EDX, &r.R_EBX,
                                               &r.R_ESP, &r.R_EBP, &r.R_ESI, &r.R_EDI};
        for (unsigned i = 0; i < 8; ++i) *registers[i] = s.gpr[i];
        r.R_CR0 = flat ? 1 : 0;
        for (unsigned i = 0; i < 6; ++i) {
            auto& seg = r.seg[i];
            seg.sel = s.selectors[i];
            seg.base = flat ? 0 : s.selectors[i] * 16U;
            seg.limit = flat ? 0xFFFFFFFF : 0xFFFF;
            seg.acc = static_cast<u16>((flat ? 0xC00 : 0) | (i == CS ? 0x9B : 0x93));
        }
        r.R_EIP = s.eip;
        r.R_EFLG = s.flags;
        r.R_IDT_BASE = 0;
        r.R_IDT_LIMIT = 0xFFFF;
        r.mode = 0;
        emu_->max_instr = r.R_TSC + 1;
        x86emu_run(emu_, X86EMU_RUN_MAX_INSTR);
        for (unsigned i = 0; i < 8; ++i) s.gpr[i] = *registers[i];
        for (unsigned i = 0; i < 6; ++i) s.selectors[i] = r.seg[i].sel;
        s.eip = r.R_EIP;
        s.flags = r.R_EFLG;
        s.fault = fault;
    }
    Code memory = Code(memory_size);
    std::vector<std::uint32_t> changed;
    int fault = -1;

private:
    static unsigned on_memory(x86emu_t* emu, u32 address, u32* value, unsigned type) {
        auto& self = *static_cast<Packaged*>(emu->_private);
        static constexpr unsigned sizes[] = {1, 2, 4, 1};
        const unsigned size = sizes[type & 3U], kind = type & ~0xFFU;
        if (kind == X86EMU_MEMIO_I) *value = address * 0x01010101U;
        if (kind == X86EMU_MEMIO_I || kind == X86EMU_MEMIO_O) return 0;
        std::uint32_t out = 0;
        for (unsigned i = 0; i < size; ++i) {
            const std::uint32_t at = address + i;
            if (kind == X86EMU_MEMIO_W && at < memory_size) {
                self.changed.push_back(at);
                self.memory[at] = static_cast<std::uint8_t>(*value >> (8 * i));
            }
            out |= std::uint32_t{at < memory_size ? self.memory[at] : std::uint8_t{0xFF}} << (8 * i);
        }
        if (kind != X86EMU_MEMIO_W) *value = out;
        return 0;
    }
    x86emu_t* emu_;
};

struct Drawn {
    Code code;
    bool narrow = false, narrow_address = false;  ///< against the code segment's width: 66, 67
    std::uint8_t first = 0, second = 0, third = 0;
};

/// Any instruction but those that leave the machine, the mode, or what the library has.
std::optional<Drawn> any_instruction(Chance& random) {
    Drawn d;
    if (random() % 4 == 0) d.code.push_back(0x66), d.narrow = true;
    if (random() % 6 == 0) d.code.push_back(0x67), d.narrow_address = true;
    static constexpr std::uint8_t overrides[] = {0x26, 0x2E, 0x36, 0x3E, 0x64, 0x65};
    if (random() % 8 == 0) d.code.push_back(overrides[random() % 6]);
    d.first = static_cast<std::uint8_t>(random());
    // Prefixes, transfers between segments, ports, flags of the system: by hand below.
    static constexpr std::uint8_t elsewhere[] = {0x07, 0x17, 0x1F, 0x26, 0x2E, 0x36, 0x3E, 0x62, 0x63, 0x64, 0x65, 0x66,
                                                 0x67, 0x6C, 0x6D, 0x6E, 0x6F, 0x8E, 0x9A, 0x9B, 0x9D, 0xC4, 0xC5, 0xCA,
                                                 0xCB, 0xCC, 0xCD, 0xCE, 0xCF, 0xE4, 0xE5, 0xE6, 0xE7, 0xEA, 0xEC, 0xED,
                                                 0xEE, 0xEF, 0xF0, 0xF1, 0xF2, 0xF3, 0xF4, 0xFA, 0xFB};
    // Compared with the processor instead, as the library has mistakes there: shifts do not mask their count, IDIV and
    // AAM end the process, DAS forgets its second half, CMOV has signed conditions wrong.
    static constexpr std::uint8_t better_known[] = {0x2F, 0xC0, 0xC1, 0xD0, 0xD1, 0xD2, 0xD3, 0xD4};
    if (std::ranges::count(elsewhere, d.first) != 0 || std::ranges::count(better_known, d.first) != 0 ||
        (d.first & 0xF8U) == 0xD8)
        return std::nullopt;
    d.code.push_back(d.first);
    if (d.first == 0x0F) {
        static constexpr std::uint8_t two[] = {0xBA, 0xAF, 0xB6, 0xB7, 0xBE, 0xBF, 0x80, 0x90};
        d.second = two[random() % std::size(two)];
        if (d.second == 0x80 || d.second == 0x90) d.second |= static_cast<std::uint8_t>(random() % 16);
        d.code.push_back(d.second);
    }
    const std::size_t at = d.code.size();
    for (int i = 0; i < 10; ++i) d.code.push_back(static_cast<std::uint8_t>(random()));
    if (random() % 3 == 0) d.code[at] |= 0xC0U;
    d.third = d.code[at];
    const unsigned field = d.third >> 3U & 7U;
    if ((d.first == 0xFF && (field == 3 || field == 5 || field == 7)) || ((d.first & 0xFEU) == 0xF6 && field >= 6) ||
        (d.first == 0xFE && field > 1))
        return std::nullopt;
    return d;
}

/// Where the library does not do what the manual says.
bool is_known_mistake(const Drawn& d, bool flat, const State& from) {
    const bool wide_address = flat != d.narrow_address, wide = flat != d.narrow;
    const unsigned mode = d.third >> 6U, rm = d.third & 7U, field = d.third >> 3U & 7U;
    // [EBP + n] is an address of the stack's segment.
    if (wide_address && (mode == 1 || mode == 2) && (rm == 5 || rm == 4) && !flat) return true;
    // PUSH of a segment register writes words (SDM: "all recent Core and Atom processors").
    if ((d.first & 0xE7U) == 0x06) return wide;
    // The address size says which of CX and ECX counts, and where XLAT looks.
    if ((d.first & 0xFCU) == 0xE0 || d.first == 0xD7) return d.narrow != d.narrow_address;
    // Bits of words are counted modulo 16.
    if (d.second == 0xBA) return !wide;
    // POP to an address made of ESP counts from where it stands then.
    if (d.first == 0x8F && wide_address && rm == 4) return true;
    // ENTER pushes double words whatever its size, RET adds a signed number.
    if (d.first == 0xC8 || d.first == 0xC2) return true;
    // CALL and JMP through ESP take it as it was before.
    return d.first == 0xFF && mode == 3 && rm == ESP && (field == 2 || field == 6) && from.gpr[ESP] != 0;
}

TEST(CpuAgainstLibrary, AddressesStackStringsAndJumps) {
    Packaged library;
    Own own;
    Chance random{std::mt19937(42)};
    for (auto& byte : library.memory) byte = static_cast<std::uint8_t>(random());
    own.ram.store(0, library.memory);
    unsigned compared = 0;
    for (unsigned n = 0; n < rounds(); ++n) {
        const bool flat = n % 2 != 0;
        const auto drawn = any_instruction(random);
        if (!drawn) continue;
        State s;
        for (auto& g : s.gpr) g = random() % 3 == 0 ? random() : random() % (flat ? 0x100000 : 0x7000);
        s.gpr[ESP] = flat ? 0x80000 + random() % 0x1000 * 4 : 0x1000 + random() % 0x4000 * 2;
        s.flags = flag::always | (random() & flag::arithmetic) | (random() % 4 == 0 ? flag::direction : 0);
        s.selectors = {0x3000, 0x1000, 0x4000, 0x2000, 0x5000, 0x6000};
        s.eip = flat ? code_at : 0x100;
        std::ranges::copy(drawn->code, library.memory.begin() + code_at);
        own.ram.store(code_at, drawn->code);
        State theirs = s, ours = s;
        own.run(ours, flat);
        if (is_known_mistake(*drawn, flat, s)) {
            own.ram.store(0, library.memory);
            continue;
        }
        library.run(theirs, flat);
        const auto what = text_of(drawn->code) + (flat ? "(32 bits)" : "(16 bits)");
        // What reaches over the end of a segment is refused; the library lets some of it pass.
        if (ours.fault < 0) {
            ++compared;
            ASSERT_EQ(theirs.fault, -1) << what;
            for (unsigned i = 0; i < 8; ++i)
                ASSERT_EQ(ours.gpr[i], theirs.gpr[i]) << what << " register " << i << std::hex << " from " << s.gpr[i];
            ASSERT_EQ(ours.eip, theirs.eip) << what;
            const std::uint32_t flags =
                (flag::arithmetic | flag::direction) & ~undefined_flags(drawn->first, drawn->second, drawn->third, 99);
            ASSERT_EQ(ours.flags & flags, theirs.flags & flags) << what << std::hex << " from " << s.flags;
            for (const auto at : library.changed)
                ASSERT_EQ(own.ram.load<std::uint8_t>(at), library.memory[at]) << what << " at " << std::hex << at;
        } else {
            EXPECT_EQ(ours.eip, s.eip) << what << ": an exception leaves everything as it was";
            EXPECT_EQ(ours.gpr, s.gpr) << what;
        }
        for (const auto at : library.changed) own.ram.store(at, library.memory[at]);
        if (n % 1000 == 0)
            for (std::uint32_t at = 0; at < memory_size; at += 4) {
                std::uint32_t theirs_there = 0;
                std::memcpy(&theirs_there, &library.memory[at], 4);
                ASSERT_EQ(own.ram.load<std::uint32_t>(at), theirs_there) << std::hex << at;
            }
    }
    EXPECT_GT(compared, rounds() / 3);
}

// --- by hand, from the manual ---------------------------------------------------------------------------------------

/// A machine in real mode with code at 0000:7C00, and a table of interrupts whose handlers halt.
struct Bench {
    TestPorts ports;
    Memory ram{memory_size, memory_size};
    Cpu cpu{ram, ports};
    explicit Bench(const Code& code, std::uint32_t at = 0x7C00) {
        ram.store(at, code);
        for (std::uint32_t n = 0; n < 256; ++n) {
            // Each handler is a HLT of its own.
            ram.store<std::uint16_t>(n * 4, static_cast<std::uint16_t>(0x500 + n));
            ram.store<std::uint8_t>(0x500 + n, 0xF4);
        }
        cpu.eip = at;
        cpu.gpr[ESP] = 0x7000;
        cpu.set_eflags(flag::interrupt);
    }
    /// Until it stops; the interrupt whose handler it halted in, or -1.
    int run(unsigned most = 10'000) {
        for (unsigned i = 0; i < most && cpu.stopped() == CpuStop::None; ++i) cpu.run();
        const std::uint32_t at = cpu.linear() - 1;
        return cpu.stopped() == CpuStop::Halted && at >= 0x500 && at < 0x600 ? static_cast<int>(at - 0x500) : -1;
    }
    std::uint16_t pushed(unsigned number) { return ram.load<std::uint16_t>(cpu.gpr[ESP] + 2 * number); }
};

struct Raises {
    const char* name;
    Code code;
    int vector;
    std::uint16_t at;  ///< the address pushed, from the code's begin
};
class CpuExceptions : public testing::TestWithParam<Raises> {};
TEST_P(CpuExceptions, PushTheInstructionsOwnPlace) {
    Bench bench(GetParam().code);
    bench.cpu.gpr[EBX] = 0xFFFF;
    ASSERT_EQ(bench.run(), GetParam().vector);
    EXPECT_EQ(bench.pushed(0), 0x7C00 + GetParam().at);
    EXPECT_EQ(bench.pushed(1), 0);
    EXPECT_NE(bench.pushed(2) & flag::interrupt, 0U) << "the flags as they were";
    EXPECT_EQ(bench.cpu.eflags() & flag::interrupt, 0U);
    EXPECT_EQ(bench.cpu.gpr[ESP], 0x6FFAU);
}
Code prefixes_and(unsigned count, Code behind) {
    Code out(count, 0x66);
    out.insert(out.end(), behind.begin(), behind.end());
    return out;
}
INSTANTIATE_TEST_SUITE_P(
    All, CpuExceptions,
    testing::Values(Raises{"DivideByZero", {0x31, 0xC9, 0xF7, 0xF1}, 0, 2},
                    // mov dx, 1; mov cx, 1; div cx: the quotient has 17 bits
                    Raises{"QuotientTooLarge", {0xBA, 1, 0, 0xB9, 1, 0, 0xF7, 0xF1}, 0, 6},
                    // mov ax, 8000; cwd; mov cx, -1; idiv cx
                    Raises{"TheOneSignedQuotient", {0xB8, 0, 0x80, 0x99, 0xB9, 0xFF, 0xFF, 0xF7, 0xF9}, 0, 7},
                    // mov edx, 80000000; xor eax, eax; mov ecx, -1; idiv ecx
                    Raises{"TheOneSignedQuotientOf64Bits",
                           {0x66, 0xBA, 0, 0, 0, 0x80, 0x66, 0x31, 0xC0, 0x66, 0x83, 0xC9, 0xFF, 0x66, 0xF7, 0xF9},
                           0,
                           13},
                    Raises{"AamByZero", {0xD4, 0x00}, 0, 0}, Raises{"Undefined", {0x90, 0x0F, 0x0B}, 6, 1},
                    Raises{"LockWithoutMemory", {0xF0, 0x01, 0xC0}, 6, 0},
                    Raises{"LockOfALoad", {0xF0, 0x03, 0x07}, 6, 0}, Raises{"LeaOfARegister", {0x8D, 0xC0}, 6, 0},
                    Raises{"MoveToCs", {0x8E, 0xC8}, 6, 0}, Raises{"ProtectedModeOnly", {0x0F, 0x00, 0xC8}, 6, 0},
                    Raises{"Bound", {0xB8, 5, 0, 0x62, 0x06, 0x06, 0x7C, 0, 0, 4, 0}, 5, 3},
                    Raises{"WordAtTheSegmentsEnd", {0x8B, 0x07}, 13, 0},
                    Raises{"WordAcrossTheStacksEnd", {0xBD, 0xFF, 0xFF, 0x8B, 0x46, 0x00}, 12, 3},
                    Raises{"SixteenBytesLong", prefixes_and(15, {0x90}), 13, 0},
                    Raises{"JumpBeyondTheSegment", {0x66, 0xE9, 0x00, 0x00, 0x01, 0x00}, 13, 0},
                    Raises{"FarJumpBeyondTheSegment", {0x66, 0xEA, 0, 0, 1, 0, 0, 0}, 13, 0},
                    Raises{"ModelRegister", {0x0F, 0x32}, 13, 0}),
    [](const auto& which) { return std::string(which.param.name); });

TEST(Cpu, RunsAnInstructionOfFifteenBytes) {
    Bench bench(prefixes_and(13, {0x40, 0xF4}));
    EXPECT_EQ(bench.run(), -1);
    EXPECT_EQ(bench.cpu.gpr[EAX], 1U);
    EXPECT_EQ(bench.cpu.eip, 0x7C0FU);
}

/// The last byte of a segment can be run; behind it comes an exception, not its first byte.
TEST(Cpu, DoesNotFallOverTheEndOfASegment) {
    Bench bench({0x40, 0x40}, 0xFFFE);
    EXPECT_EQ(bench.run(), 13);
    EXPECT_EQ(bench.cpu.gpr[EAX], 2U);
    EXPECT_EQ(bench.pushed(0), 0U) << "the low half of 10000";
    // The same bytes seen through another segment go on.
    Bench other({0x40, 0x40, 0x40, 0xF4}, 0xFFFE);
    EXPECT_EQ(other.run(), 13);
    other.cpu.stop(CpuStop::None);
    other.cpu.load_real(CS, 0x1000 - 1);
    other.cpu.eip = 0xFFFE - 0xFFF0;
    other.run();
    EXPECT_EQ(other.cpu.gpr[EAX], 5U);
    EXPECT_EQ(other.cpu.linear(), 0x10002U);
}

/// CMPXCHG8B (Intel SDM vol. 2A): EDX:EAX with the eight bytes at 1500h; ECX:EBX takes their place where both halves
/// fit.
TEST(Cpu, EightBytesAreExchangedWhereBothHalvesFit) {
    struct Row {
        std::uint32_t low, high;
        bool same;
    };
    for (const auto& row : {Row{0x11111111, 0x22222222, true}, Row{0x11111110, 0x22222222, false},
                            Row{0x11111111, 0x22222223, false}, Row{0, 0, false}}) {
        Bench bench({0x0F, 0xC7, 0x0E, 0x00, 0x15, 0xF4});
        bench.ram.store<std::uint32_t>(0x1500, 0x11111111);
        bench.ram.store<std::uint32_t>(0x1504, 0x22222222);
        bench.cpu.gpr[EAX] = row.low;
        bench.cpu.gpr[EDX] = row.high;
        bench.cpu.gpr[EBX] = 0x33333333;
        bench.cpu.gpr[ECX] = 0x44444444;
        bench.run();
        EXPECT_EQ(bench.ram.load<std::uint32_t>(0x1500), row.same ? 0x33333333U : 0x11111111U) << row.low;
        EXPECT_EQ(bench.ram.load<std::uint32_t>(0x1504), row.same ? 0x44444444U : 0x22222222U) << row.low;
        EXPECT_EQ(bench.cpu.gpr[EAX], row.same ? row.low : 0x11111111U);
        EXPECT_EQ(bench.cpu.gpr[EDX], row.same ? row.high : 0x22222222U);
        EXPECT_EQ((bench.cpu.eflags() & flag::zero) != 0, row.same);
    }
}

/// ENTER (Intel SDM vol. 2A): the frame's pointer, those of the outer frames, its own, and room; 31 levels at most.
TEST(Cpu, EntersFramesWithinFrames) {
    for (const std::uint8_t level : std::initializer_list<std::uint8_t>{0, 1, 2, 3, 31, 32, 33, 63}) {
        const unsigned counted = level % 32U;
        Bench bench({0xC8, 0x06, 0x00, level, 0xF4});
        bench.cpu.gpr[ESP] = 0x6000;
        bench.cpu.gpr[EBP] = 0x5000;
        for (std::uint32_t i = 1; i < 40; ++i)
            bench.ram.store<std::uint16_t>(0x5000 - 2 * i, static_cast<std::uint16_t>(0x4000 + i));
        EXPECT_EQ(bench.run(), -1);
        EXPECT_EQ(bench.cpu.gpr[EBP], 0x5FFEU) << int{level};
        EXPECT_EQ(bench.cpu.gpr[ESP], 0x6000U - 2 - 2 * counted - 6) << int{level};
        EXPECT_EQ(bench.ram.load<std::uint16_t>(0x5FFE), 0x5000);
        for (unsigned i = 1; i < counted; ++i)
            EXPECT_EQ(bench.ram.load<std::uint16_t>(0x5FFE - 2 * i), 0x4000 + i) << int{level};
        if (counted > 0) EXPECT_EQ(bench.ram.load<std::uint16_t>(0x5FFE - 2 * counted), 0x5FFE) << int{level};
    }
}

TEST(Cpu, SoftwareInterruptsReturnBehindThem) {
    Bench bench({0xCD, 0x21, 0x40, 0xF4});
    bench.ram.store<std::uint8_t>(0x521, 0xCF);
    bench.run();
    EXPECT_EQ(bench.cpu.gpr[EAX], 1U);
    EXPECT_EQ(bench.cpu.gpr[ESP], 0x7000U);
    EXPECT_NE(bench.cpu.eflags() & flag::interrupt, 0U);
    // INTO only with overflow.
    Bench quiet({0x31, 0xC0, 0xCE, 0xF4});
    EXPECT_EQ(quiet.run(), -1);
    Bench loud({0xB0, 0x7F, 0xFE, 0xC0, 0xCE, 0xF4});
    EXPECT_EQ(loud.run(), 4);
    EXPECT_EQ(loud.pushed(0), 0x7C05) << "behind it";
}

TEST(Cpu, StopsWhereNoHandlerCanBeReached) {
    Bench bench({0x0F, 0x0B});
    bench.cpu.idt.limit = 6 * 4 + 2;
    bench.run();
    EXPECT_EQ(bench.cpu.stopped(), CpuStop::Fault);
    EXPECT_EQ(bench.cpu.why(), "exception 6");
    EXPECT_EQ(bench.cpu.eip, 0x7C00U);
    // A stack that takes nothing.
    Bench full({0x0F, 0x0B});
    full.cpu.gpr[ESP] = 1;
    full.run();
    EXPECT_EQ(full.cpu.stopped(), CpuStop::Fault);
    EXPECT_EQ(full.cpu.gpr[ESP], 1U);
}

// --- the trap flag (SDM volume 3, section 17.3.1.4)

/// pushf; pop ax; or ah, 1; push ax; popf; and what is run with the flag set, at 7C07.
Code stepped(Code behind) {
    Code out{0x9C, 0x58, 0x80, 0xCC, 0x01, 0x50, 0x9D};
    out.insert(out.end(), behind.begin(), behind.end());
    return out;
}

TEST(CpuTrapFlag, ExceptionFollowsTheInstructionBehindPopf) {
    Bench bench(stepped({0x90, 0x43, 0xF4}));
    ASSERT_EQ(bench.run(), 1);
    EXPECT_EQ(bench.pushed(0), 0x7C08) << "the next instruction";
    EXPECT_EQ(bench.pushed(2) & flag::trap, flag::trap);
    EXPECT_EQ(bench.cpu.eflags() & flag::trap, 0U) << "the handler is not stepped through";
    EXPECT_EQ(bench.cpu.gpr[EBX], 0U);
    EXPECT_EQ(bench.cpu.debug[6], 0x4000U) << "BS of DR6";
}

TEST(CpuTrapFlag, EachInstructionUpToTheOneThatClearsIt) {
    // nop; inc bx; pushf; pop ax; and ah, fe; push ax; popf; hlt
    Bench bench(stepped({0x90, 0x43, 0x9C, 0x58, 0x80, 0xE4, 0xFE, 0x50, 0x9D, 0xF4}));
    bench.ram.store<std::uint16_t>(4, 0x600);
    bench.ram.store(0x600, Code{0x42, 0xCF});  // inc dx; iret
    EXPECT_EQ(bench.run(), -1);
    EXPECT_EQ(bench.cpu.gpr[EDX], 7U);
    EXPECT_EQ(bench.cpu.gpr[EBX], 1U);
    EXPECT_EQ(bench.cpu.eip, 0x7C11U);
    EXPECT_EQ(bench.cpu.gpr[ESP], 0x7000U);
}

TEST(CpuTrapFlag, NotBehindALoadOfTheStackSegment) {
    // mov ss, cx; nop
    Bench moved(stepped({0x8E, 0xD1, 0x90, 0xF4}));
    ASSERT_EQ(moved.run(), 1);
    EXPECT_EQ(moved.pushed(0), 0x7C0A);
    // push cx; pop ss; nop: behind the push there is one
    Bench popped(stepped({0x51, 0x17, 0x90, 0xF4}));
    popped.ram.store<std::uint16_t>(4, 0x600);
    popped.ram.store(0x600, Code{0x42, 0xCF});
    for (int i = 0; i < 40 && popped.cpu.eip != 0x7C0A; ++i) popped.cpu.run();
    EXPECT_EQ(popped.cpu.gpr[EDX], 2U) << "behind push and nop";
    // mov ds, cx is like any other.
    Bench other(stepped({0x8E, 0xD9, 0x90, 0xF4}));
    ASSERT_EQ(other.run(), 1);
    EXPECT_EQ(other.pushed(0), 0x7C09);
}

TEST(CpuTrapFlag, AnInterruptOrExceptionOfTheInstructionItselfComesAlone) {
    EXPECT_EQ(Bench(stepped({0xCD, 0x40})).run(), 0x40);
    Bench bad(stepped({0x0F, 0x0B}));
    EXPECT_EQ(bad.run(), 6);
    EXPECT_EQ(bad.pushed(0), 0x7C07);
    EXPECT_EQ(bad.pushed(2) & flag::trap, flag::trap);
    EXPECT_EQ(bad.cpu.gpr[ESP], 0x6FFAU);
}

TEST(CpuTrapFlag, BehindEachElementOfARepetition) {
    // rep stosb
    Bench bench(stepped({0xF3, 0xAA, 0xF4}));
    bench.cpu.gpr[ECX] = 3;
    bench.cpu.gpr[EDI] = 0x3000;
    ASSERT_EQ(bench.run(), 1);
    EXPECT_EQ(bench.pushed(0), 0x7C07) << "it goes on from itself";
    EXPECT_EQ(bench.cpu.gpr[ECX], 2U);
    EXPECT_EQ(bench.cpu.gpr[EDI], 0x3001U);
}

TEST(CpuTrapFlag, WakesFromHlt) {
    Bench bench(stepped({0xF4, 0x43}));
    ASSERT_EQ(bench.run(), 1);
    EXPECT_EQ(bench.pushed(0), 0x7C08);
}

// --- many elements at once

/// rep movsb, movsw, movsd, upwards and downwards: byte by byte the same as one element after the other, where pieces
/// of memory end and where source and target overlap.
TEST(CpuMoves, ManyAtOnceAreAsOneByOne) {
    constexpr std::uint32_t begin = 0x1800, length = 0x4000, count = 300;
    for (const unsigned size : {1U, 2U, 4U})
        for (const bool down : {false, true})
            for (const std::uint32_t from : {0x3000U, 0x3001U, 0x3F7EU, 0x3FFDU})
                for (const int distance :
                     {1, 2, 3, 4, 7, 127, 128, 129, 500, 0x1000, -1, -2, -3, -5, -128, -500, -0x1000}) {
                    const std::uint32_t to = from + static_cast<std::uint32_t>(distance);
                    Code code = size == 4 ? Code{0x66} : Code{};
                    code.insert(code.end(), {0xF3, static_cast<std::uint8_t>(size == 1 ? 0xA4 : 0xA5), 0xF4});
                    Bench bench(code);
                    Code expected(length);
                    for (std::uint32_t i = 0; i < length; ++i) expected[i] = static_cast<std::uint8_t>(i * 7 + i / 251);
                    bench.ram.store(begin, expected);
                    bench.cpu.gpr[ECX] = count;
                    bench.cpu.gpr[ESI] = from;
                    bench.cpu.gpr[EDI] = to;
                    if (down) bench.cpu.set_eflags(flag::direction);
                    EXPECT_EQ(bench.run(), -1);
                    const std::uint32_t step = down ? 0U - size : size;
                    // An element is read before it is written.
                    for (std::uint32_t i = 0; i < count; ++i)
                        std::memmove(&expected[to - begin + i * step], &expected[from - begin + i * step], size);
                    for (std::uint32_t i = 0; i < length; ++i)
                        ASSERT_EQ(bench.ram.load<std::uint8_t>(begin + i), expected[i])
                            << size << " from " << from << " to " << to << " at " << begin + i;
                    EXPECT_EQ(bench.cpu.gpr[ESI], from + count * step);
                    EXPECT_EQ(bench.cpu.gpr[EDI], to + count * step);
                    EXPECT_EQ(bench.cpu.gpr[ECX], 0U);
                }
}

TEST(CpuMoves, StopAtASegmentsEnd) {
    // rep movsw with SI at FFFD: the second word lies across the end.
    Bench bench({0xF3, 0xA5});
    bench.cpu.gpr[ECX] = 8;
    bench.cpu.gpr[ESI] = 0xFFFD;
    bench.cpu.gpr[EDI] = 0x3000;
    EXPECT_EQ(bench.run(), 13);
    EXPECT_EQ(bench.cpu.gpr[ECX], 7U);
    EXPECT_EQ(bench.cpu.gpr[ESI], 0xFFFFU);
    EXPECT_EQ(bench.cpu.gpr[EDI], 0x3002U);
    EXPECT_EQ(bench.pushed(0), 0x7C00);
    // Bytes go on at the segment's begin.
    Bench wraps({0xF3, 0xA4, 0xF4});
    wraps.ram.store<std::uint8_t>(0xFFFF, 0x11);
    wraps.ram.store<std::uint8_t>(0, 0x22);
    wraps.cpu.gpr[ECX] = 2;
    wraps.cpu.gpr[ESI] = 0xFFFF;
    wraps.cpu.gpr[EDI] = 0x3000;
    EXPECT_EQ(wraps.run(), -1);
    EXPECT_EQ(wraps.ram.load<std::uint16_t>(0x3000), 0x2211);
    EXPECT_EQ(wraps.cpu.gpr[ESI], 1U);
}

TEST(CpuMoves, CodeThatIsMovedOverIsDecodedAnew) {
    // 7C00: call 7C20 (inc ax; ret); mov si, 7C30; mov di, 7C20; mov cx, 2; rep movsb; call 7C20 (inc bx; ret); hlt
    Bench bench(
        {0xE8, 0x1D, 0x00, 0xBE, 0x30, 0x7C, 0xBF, 0x20, 0x7C, 0xB9, 0x02, 0x00, 0xF3, 0xA4, 0xE8, 0x0F, 0x00, 0xF4});
    bench.ram.store(0x7C20, Code{0x40, 0xC3});
    bench.ram.store(0x7C30, Code{0x43, 0xC3});
    EXPECT_EQ(bench.run(), -1);
    EXPECT_EQ(bench.cpu.gpr[EAX], 1U);
    EXPECT_EQ(bench.cpu.gpr[EBX], 1U);
}

// --- stretches

TEST(CpuStretch, EndsWithTheBlockOfMemory) {
    // inc ax; inc ax, the second one at the end of a block; inc ax
    Bench bench({0x40, 0x40, 0x40, 0xF4}, 0x7DFE);
    EXPECT_EQ(bench.cpu.run_on({1000, 1000, 0}), 2U);
    EXPECT_EQ(bench.cpu.eip, 0x7E00U);
    EXPECT_EQ(bench.cpu.executed(), 2U);
    EXPECT_EQ(bench.cpu.run_on({1000, 1000, 0}), 2U);
    EXPECT_EQ(bench.cpu.stopped(), CpuStop::Halted);
    EXPECT_EQ(bench.cpu.run_on({1000, 1000, 0}), 0U);
    EXPECT_EQ(bench.cpu.executed(), 4U);
}

TEST(CpuStretch, EndsWhereItIsAskedTo) {
    // dec cx; jnz -3: two instructions a turn
    const Code turns{0x49, 0x75, 0xFD, 0x90, 0xF4};
    Bench counted(turns, 0x7C10);
    counted.cpu.gpr[ECX] = 1000;
    EXPECT_EQ(counted.cpu.run_on({100, 1000, 0}), 100U);
    EXPECT_EQ(counted.cpu.gpr[ECX], 950U);
    Bench watched(turns, 0x7C10);
    watched.cpu.gpr[ECX] = 1000;
    EXPECT_EQ(watched.cpu.run_on({100, 1000, 0x7C10}), 2U) << "the next turn begins there";
    // rep stosb of five turns: elements are work
    Bench work({0xB9, 5, 0, 0xF3, 0xAA, 0xEB, 0xF9}, 0x7C10);
    (void)work.cpu.take_work();
    work.cpu.gpr[EDI] = 0x3000;
    work.cpu.run_on({1'000'000, 500, 0});
    EXPECT_GE(work.cpu.take_work(), 500U);
    EXPECT_LT(work.cpu.gpr[EDI], 0x3000U + 510U);
}

TEST(CpuStretch, EndsBeforeFourBytesOfZero) {
    // jmp over; the target holds zeros
    Bench bench({0xEB, 0x0E});
    EXPECT_EQ(bench.cpu.run_on({1000, 1000, 0}), 1U);
    EXPECT_EQ(bench.cpu.eip, 0x7C10U);
}

TEST(CpuRuns, GoOnBehindAJumpThatIsNotTaken) {
    // xor ax, ax; jnz +3; mov bx, 1; jz +1; (inc dx); inc cx; hlt
    Bench bench({0x31, 0xC0, 0x75, 0x03, 0xBB, 0x01, 0x00, 0x74, 0x01, 0x42, 0x41, 0xF4});
    EXPECT_EQ(bench.cpu.run(), 4U) << "up to the jump that is taken";
    EXPECT_EQ(bench.cpu.eip, 0x7C0AU);
    EXPECT_EQ(bench.cpu.gpr[EBX], 1U);
    EXPECT_EQ(bench.cpu.run(), 2U);
    EXPECT_EQ(bench.cpu.gpr[EDX], 0U);
    EXPECT_EQ(bench.cpu.gpr[ECX], 1U);
    EXPECT_EQ(bench.cpu.eip, 0x7C0CU);
    // The same run with the other end of its first jump.
    bench.cpu.wake();
    bench.ram.store<std::uint8_t>(0x7C02, 0x74);
    bench.cpu.eip = 0x7C00;
    EXPECT_EQ(bench.cpu.run(), 2U);
    EXPECT_EQ(bench.cpu.eip, 0x7C07U);
}

TEST(CpuRuns, AJumpOutOfTheSegmentIsAnExceptionAtItsOwnPlace) {
    // xor ax, ax; jz near by 10000h; inc bx
    Bench bench({0x31, 0xC0, 0x66, 0x0F, 0x84, 0x00, 0x00, 0x01, 0x00, 0x43});
    EXPECT_EQ(bench.run(), 13);
    EXPECT_EQ(bench.pushed(0), 0x7C02);
    EXPECT_EQ(bench.cpu.gpr[EBX], 0U);
}

TEST(CpuStretch, EndsWithAnInterrupt) {
    Bench bench({0x40, 0xCD, 0x40});
    EXPECT_EQ(bench.cpu.run_on({1000, 1000, 0}), 2U);
    EXPECT_EQ(bench.cpu.eip, 0x540U);
}

TEST(Cpu, RunsWhatWasWrittenOverItself) {
    // mov byte [7c06], 43: inc ax becomes inc bx, in the run that is on its way.
    Bench bench({0xC6, 0x06, 0x05, 0x7C, 0x43, 0x40, 0xF4});
    bench.run();
    EXPECT_EQ(bench.cpu.gpr[EAX], 0U);
    EXPECT_EQ(bench.cpu.gpr[EBX], 1U);
    // A loop that changes its own operand each time: add ax, n with n counting.
    // 7c00: mov cx, 4; 7c03: add ax, 1; 7c06: inc byte [7c04]; 7c0a: loop 7c03; hlt
    Bench loop({0xB9, 4, 0, 0x05, 1, 0, 0xFE, 0x06, 0x04, 0x7C, 0xE2, 0xF7, 0xF4});
    loop.run();
    EXPECT_EQ(loop.cpu.gpr[EAX], 1U + 2 + 3 + 4);
    // The host writes: a sector is read over code that ran.
    Bench host({0x40, 0xF4});
    host.run();
    host.ram.store<std::uint8_t>(0x7C00, 0x43);
    host.cpu.stop(CpuStop::None);
    host.cpu.eip = 0x7C00;
    host.run();
    EXPECT_EQ(host.cpu.gpr[EAX], 1U);
    EXPECT_EQ(host.cpu.gpr[EBX], 1U);
    // An instruction that begins in one page and ends in the next, changed at its end.
    Bench across({0xB8, 0x34, 0x12, 0xF4}, 0x1FFF);
    across.run();
    EXPECT_EQ(across.cpu.gpr[EAX], 0x1234U);
    across.ram.store<std::uint8_t>(0x2000, 0x99);
    across.cpu.stop(CpuStop::None);
    across.cpu.eip = 0x1FFF;
    across.run();
    EXPECT_EQ(across.cpu.gpr[EAX], 0x1299U);
}

/// Two runs, each beginning in one page and ending in the next: what is discarded for one of them hides no write from
/// the others.
TEST(Cpu, WatchesTheEndOfARunWhoseNeighbourIsDiscarded) {
    Bench bench({0xB8, 0x34, 0x12, 0xF4}, 0x1FFF);
    bench.run();
    bench.ram.store(0x2FFF, Code{0xBB, 0x34, 0x12, 0xF4});
    const auto run_at = [&](std::uint32_t at) {
        bench.cpu.stop(CpuStop::None);
        bench.cpu.eip = at;
        bench.run();
    };
    run_at(0x2FFF);
    bench.ram.store<std::uint8_t>(0x3000, 0x99);
    bench.ram.store<std::uint8_t>(0x2000, 0x77);
    run_at(0x1FFF);
    EXPECT_EQ(bench.cpu.gpr[EAX], 0x1277U);
    run_at(0x2FFF);
    EXPECT_EQ(bench.cpu.gpr[EBX], 0x1299U);
}

TEST(Cpu, RepeatsStringsPieceByPiece) {
    // rep stosb over 40000 bytes; the direction flag turns it round.
    Bench bench({0xB9, 0x40, 0x9C, 0xBF, 0x00, 0x00, 0xB0, 0x55, 0xF3, 0xAA, 0xF4});
    bench.cpu.load_real(ES, 0x2000);
    bench.run();
    EXPECT_EQ(bench.cpu.gpr[ECX], 0U);
    EXPECT_EQ(bench.cpu.gpr[EDI], 40000U);
    EXPECT_EQ(bench.ram.load<std::uint8_t>(0x20000 + 39999), 0x55);
    EXPECT_EQ(bench.ram.load<std::uint8_t>(0x20000 + 40000), 0);
    EXPECT_GE(bench.cpu.take_work(), 40000U);
    EXPECT_EQ(bench.cpu.take_work(), 0U);
    // std; rep movsw backwards by one word: each word is copied before it is overwritten.
    Bench back({0xFD, 0xB9, 3, 0, 0xBE, 0x04, 0x20, 0xBF, 0x06, 0x20, 0xF3, 0xA5, 0xF4});
    for (std::uint16_t i = 0; i < 3; ++i)
        back.ram.store<std::uint16_t>(0x2000 + 2U * i, static_cast<std::uint16_t>(0x1111 * (i + 1)));
    back.run();
    EXPECT_EQ(back.ram.load<std::uint16_t>(0x2006), 0x3333);
    EXPECT_EQ(back.ram.load<std::uint16_t>(0x2004), 0x2222);
    EXPECT_EQ(back.ram.load<std::uint16_t>(0x2002), 0x1111);
    EXPECT_EQ(back.cpu.gpr[ESI], 0x1FFEU);
    // repe cmpsb stops behind the first difference; repne scasb at the first match.
    Bench compare({0xB9, 8, 0, 0xBE, 0x00, 0x20, 0xBF, 0x00, 0x30, 0xF3, 0xA6, 0xF4});
    compare.ram.store(0x2000, Code{1, 2, 3, 4});
    compare.ram.store(0x3000, Code{1, 2, 9, 4});
    compare.run();
    EXPECT_EQ(compare.cpu.gpr[ECX], 5U);
    EXPECT_EQ(compare.cpu.gpr[ESI], 0x2003U);
    EXPECT_EQ(compare.cpu.eflags() & flag::zero, 0U);
    Bench scan({0xB9, 8, 0, 0xB0, 4, 0xBF, 0x00, 0x20, 0xF2, 0xAE, 0xF4});
    scan.ram.store(0x2000, Code{1, 2, 3, 4, 5});
    scan.run();
    EXPECT_EQ(scan.cpu.gpr[EDI], 0x2004U);
    EXPECT_EQ(scan.cpu.gpr[ECX], 4U);
    EXPECT_NE(scan.cpu.eflags() & flag::zero, 0U);
    // No element, no flags.
    Bench none({0x31, 0xC9, 0xF9, 0xF3, 0xA6, 0xF4});
    none.run();
    EXPECT_NE(none.cpu.eflags() & flag::carry, 0U);
    // What is done stays done where the segment ends.
    Bench end({0xB9, 4, 0, 0xBF, 0xFE, 0xFF, 0xF3, 0xAA, 0xF4});
    end.cpu.load_real(ES, 0x4000);
    EXPECT_EQ(end.run(), -1) << "bytes wrap around";
    Bench words({0xB9, 4, 0, 0xBF, 0xFD, 0xFF, 0xF3, 0xAB, 0xF4});
    words.cpu.load_real(ES, 0x4000);
    EXPECT_EQ(words.run(), 13);
    EXPECT_EQ(words.cpu.gpr[ECX], 3U);
    EXPECT_EQ(words.cpu.gpr[EDI], 0xFFFFU);
    EXPECT_EQ(words.pushed(0), 0x7C06);
}

TEST(Cpu, ReachesPorts) {
    // mov al, 12; out 3f, al; mov dx, 3f8; out dx, ax; in eax, dx; hlt
    Bench bench({0xB0, 0x12, 0xE6, 0x3F, 0xBA, 0xF8, 0x03, 0xEF, 0x66, 0xED, 0xF4});
    bench.run();
    EXPECT_EQ(bench.ports.written, (std::vector<TestPorts::Out>{{0x3F, 0x12, 1}, {0x3F8, 0x12, 2}}));
    EXPECT_EQ(bench.cpu.gpr[EAX], 0x3F8U * 0x01010101U);
}

TEST(Cpu, KeepsBitTwentyOutWhereItsLineIsOff) {
    // mov ax, ffff; mov ds, ax; mov byte [20], 77: linear 100010
    Bench bench({0xB8, 0xFF, 0xFF, 0x8E, 0xD8, 0xC6, 0x06, 0x20, 0x00, 0x77, 0xF4});
    bench.run();
    EXPECT_EQ(bench.ram.load<std::uint8_t>(0x100010), 0x77);
    Bench off({0xB8, 0xFF, 0xFF, 0x8E, 0xD8, 0xC6, 0x06, 0x20, 0x00, 0x77, 0xF4});
    off.ram.set_a20(false);
    off.cpu.forget_code();
    off.run();
    EXPECT_EQ(off.ram.load<std::uint8_t>(0x10), 0x77);
    off.ram.set_a20(true);
    EXPECT_EQ(off.ram.load<std::uint8_t>(0x100010), 0);
}

// --- protected mode

constexpr std::uint32_t gdt_at = 0x8000, idt_at = 0x8800;
/// Descriptors (SDM volume 3, figure 3-8): limit, base, access, and the four bits G, D/B, 0, AVL.
std::uint64_t descriptor(std::uint32_t base, std::uint32_t limit, unsigned access, unsigned bits) {
    return std::uint64_t{limit & 0xFFFFU} | std::uint64_t{base & 0xFFFFFFU} << 16U | std::uint64_t{access} << 40U |
           std::uint64_t{limit >> 16U & 15U} << 48U | std::uint64_t{bits} << 52U | std::uint64_t{base >> 24U} << 56U;
}

/// Real mode code that goes to 32-bit code at 9000; what stands there.
struct Protected : Bench {
    explicit Protected(const Code& code)
        // lgdt [7c20]; lidt [7c28]; mov eax, cr0; or al, 1; mov cr0, eax; jmp 8:9000
        : Bench({0x0F, 0x01, 0x16, 0x20, 0x7C, 0x0F, 0x01, 0x1E, 0x28, 0x7C, 0x0F, 0x20,
                 0xC0, 0x0C, 0x01, 0x0F, 0x22, 0xC0, 0xEA, 0x00, 0x90, 0x08, 0x00}) {
        ram.store<std::uint16_t>(0x7C20, 0x7F);
        ram.store<std::uint32_t>(0x7C22, gdt_at);
        ram.store<std::uint16_t>(0x7C28, 0x7FF);
        ram.store<std::uint32_t>(0x7C2A, idt_at);
        set(0x08, descriptor(0, 0xFFFFF, 0x9A, 0xC));                      // code, 32 bits, everything
        set(0x10, descriptor(0, 0xFFFFF, 0x92, 0xC));                      // data, everything
        set(0x18, descriptor(0x20000, 0x0FFF, 0x92, 0x4));                 // data, 4 KiB
        set(0x20, descriptor(0x20000, 0x0FFF, 0x96, 0x4));                 // data, grows downwards: above 0FFF
        set(0x28, descriptor(0x20000, 0x0FFF, 0x90, 0x4));                 // data, read only
        set(0x30, descriptor(0, 0xFFFF, 0x9A, 0x0));                       // code, 16 bits
        set(0x38, descriptor(0, 0xFFFFF, 0x12, 0xC));                      // not present
        set(0x40, descriptor(0, 0xFFFFF, 0xF2, 0xC));                      // privilege 3
        set(0x48, std::uint64_t{0x8C00} << 32U | 0x08U << 16U | 0x9100U);  // call gate to 8:9100
        ram.store(0x9000, code);
    }
    void set(std::uint32_t selector, std::uint64_t value) {
        ram.store<std::uint32_t>(gdt_at + selector, static_cast<std::uint32_t>(value));
        ram.store<std::uint32_t>(gdt_at + selector + 4, static_cast<std::uint32_t>(value >> 32U));
    }
    /// A 32-bit gate to a HLT at A000 + vector; type E: interrupts are turned off, F: they are not.
    void gate(std::uint32_t vector, unsigned access = 0x8E, std::uint16_t selector = 8) {
        ram.store<std::uint32_t>(idt_at + vector * 8, std::uint32_t{selector} << 16U | (0xA000 + vector));
        ram.store<std::uint32_t>(idt_at + vector * 8 + 4, access << 8U);
        ram.store<std::uint8_t>(0xA000 + vector, 0xF4);
    }
};

/// mov ax, SELECTOR; mov ds, ax
Code data_segment(std::uint8_t selector) { return {0x66, 0xB8, selector, 0x00, 0x8E, 0xD8}; }
Code operator+(Code a, const Code& b) {
    a.insert(a.end(), b.begin(), b.end());
    return a;
}

TEST(CpuProtectedMode, IsEnteredAndLeft) {
    // mov ax, 10; mov ds, ax; mov dword [100004], 12345678; jmp 30:9020 | 16 bits: and al, fe…; jmp 0:9040 | mov ax,
    // ds; hlt
    Protected machine(data_segment(0x10) + Code{0xC7, 0x05, 0x04, 0x00, 0x10, 0x00, 0x78, 0x56, 0x34, 0x12, 0xEA, 0x20,
                                                0x90, 0, 0, 0x30, 0});
    machine.ram.store(0x9020, Code{0x0F, 0x20, 0xC0, 0x24, 0xFE, 0x0F, 0x22, 0xC0, 0xEA, 0x40, 0x90, 0, 0});
    machine.ram.store(0x9040, Code{0x66, 0x67, 0xA1, 0x04, 0x00, 0x10, 0x00, 0xF4});
    machine.run();
    EXPECT_EQ(machine.cpu.stopped(), CpuStop::Halted);
    EXPECT_FALSE(machine.cpu.protected_mode());
    EXPECT_EQ(machine.ram.load<std::uint32_t>(0x100004), 0x12345678U);
    EXPECT_EQ(machine.cpu.gpr[EAX], 0x12345678U) << "the limit stays as protected mode left it";
    EXPECT_EQ(machine.cpu.segments[CS].selector, 0);
    EXPECT_EQ(machine.ram.load<std::uint8_t>(gdt_at + 0x10 + 5), 0x93) << "marked as accessed";
    // In real mode a segment of 64 KiB again where it is loaded with one: not by itself.
    EXPECT_EQ(machine.cpu.segments[DS].last, 0xFFFFFFFFU);
}

struct Refused {
    const char* name;
    Code code;
    int vector;
    std::optional<std::uint16_t> error;
    std::uint32_t at = 0;  ///< of the instruction, behind 9000
};
class CpuDescriptors : public testing::TestWithParam<Refused> {};
TEST_P(CpuDescriptors, AreObeyed) {
    Protected machine(GetParam().code);
    machine.cpu.gpr[ESP] = 0x7000;
    for (std::uint32_t n = 0; n < 32; ++n) machine.gate(n);
    // A stack of 32 bits: the old one is of real mode.
    for (unsigned i = 0; i < 100 && machine.cpu.stopped() == CpuStop::None; ++i) machine.cpu.run();
    ASSERT_EQ(machine.cpu.stopped(), CpuStop::Halted) << machine.cpu.why();
    ASSERT_EQ(static_cast<int>(machine.cpu.eip - 1 - 0xA000), GetParam().vector);
    std::uint32_t top = machine.cpu.gpr[ESP] & 0xFFFFU;
    if (GetParam().error) {
        EXPECT_EQ(machine.ram.load<std::uint32_t>(top), *GetParam().error);
        top += 4;
    }
    EXPECT_EQ(machine.ram.load<std::uint32_t>(top), 0x9000 + GetParam().at);
    EXPECT_EQ(machine.ram.load<std::uint32_t>(top + 4), 8U);
    EXPECT_EQ(top + 12, 0x7000U);
}
INSTANTIATE_TEST_SUITE_P(
    All, CpuDescriptors,
    testing::Values(Refused{"Undefined", {0x0F, 0x0B}, 6, {}}, Refused{"Divide", {0x31, 0xC9, 0xF7, 0xF1}, 0, {}, 2},
                    Refused{"BeyondTheTable", data_segment(0x80), 13, 0x80, 4},
                    Refused{"BeyondTheLocalTable", data_segment(0x0C), 13, 0x0C, 4},
                    Refused{"NotPresent", data_segment(0x38), 11, 0x38, 4},
                    Refused{"AGate", data_segment(0x48), 13, 0x48, 4},
                    Refused{"AskedForALesserPrivilege", data_segment(0x13), 13, 0x10, 4},
                    Refused{"StackOfNothing", {0x31, 0xC0, 0x8E, 0xD0}, 13, 0, 2},
                    Refused{"StackOfCode", {0x66, 0xB8, 0x08, 0x00, 0x8E, 0xD0}, 13, 0x08, 4},
                    Refused{"StackNotPresent", {0x66, 0xB8, 0x38, 0x00, 0x8E, 0xD0}, 12, 0x38, 4},
                    Refused{"JumpToData", {0xEA, 0, 0, 0, 0, 0x10, 0}, 13, 0x10},
                    Refused{"JumpToNothing", {0xEA, 0, 0, 0, 0, 0, 0}, 13, 0},
                    Refused{"JumpBeyondItsLimit", {0xEA, 0, 0, 1, 0, 0x30, 0}, 13, 0},
                    Refused{"ReadOfNothing", data_segment(0x00) + Code{0xA1, 0, 0, 0, 0}, 13, 0, 6},
                    Refused{"ReadAboveTheLimit", data_segment(0x18) + Code{0xA1, 0xFD, 0x0F, 0, 0}, 13, 0, 6},
                    Refused{"ReadBelowWhatGrowsDown", data_segment(0x20) + Code{0xA1, 0xFF, 0x0F, 0, 0}, 13, 0, 6},
                    Refused{"WriteOfWhatIsReadOnly", data_segment(0x28) + Code{0xA3, 0, 0, 0, 0}, 13, 0, 6},
                    Refused{"WriteOfCode", {0x2E, 0xA3, 0, 0, 0, 0}, 13, 0},
                    Refused{"InterruptBeyondTheTable", {0xCD, 0xFF + 0}, 13, 0xFF * 8 + 2},
                    Refused{"InterruptWithoutAGate", {0xCD, 0x30}, 13, 0x30 * 8 + 2}),
    [](const auto& which) { return std::string(which.param.name); });

TEST(CpuProtectedMode, LimitsHoldToTheByte) {
    // Three reads that are just inside: the last double word, the first one above what grows down, and all of it.
    Protected machine(data_segment(0x18) + Code{0xA1, 0xFC, 0x0F, 0, 0} + data_segment(0x20) +
                      Code{0x8B, 0x1D, 0x00, 0x10, 0, 0} + Code{0x8B, 0x0D, 0xFC, 0xFF, 0xFF, 0xFF, 0xF4});
    machine.ram.store<std::uint32_t>(0x20FFC, 0x11111111);
    machine.ram.store<std::uint32_t>(0x21000, 0x22222222);
    machine.ram.store<std::uint32_t>(0x1FFFC, 0x33333333);
    machine.run();
    EXPECT_EQ(machine.cpu.stopped(), CpuStop::Halted) << machine.cpu.why();
    EXPECT_EQ(machine.cpu.gpr[EBX], 0x22222222U);
    EXPECT_EQ(machine.cpu.gpr[ECX], 0x33333333U) << "the address wraps around";
}

TEST(CpuProtectedMode, CallsThroughGatesAndComesBack) {
    // call 48:0; inc ebx; hlt | 9100: mov ecx, 7; retf
    Protected machine({0x9A, 0, 0, 0, 0, 0x48, 0, 0x43, 0xF4});
    machine.ram.store(0x9100, Code{0xB9, 7, 0, 0, 0, 0xCB});
    machine.run();
    EXPECT_EQ(machine.cpu.gpr[ECX], 7U);
    EXPECT_EQ(machine.cpu.gpr[EBX], 1U);
    EXPECT_EQ(machine.cpu.gpr[ESP] & 0xFFFFU, 0x7000U);
    // int 40 by a trap gate: interrupts stay on.
    Protected trap({0xFB, 0xCD, 0x40, 0x43, 0xF4});
    trap.gate(0x40, 0x8F);
    trap.ram.store<std::uint8_t>(0xA040, 0xCF);
    trap.run();
    EXPECT_EQ(trap.cpu.gpr[EBX], 1U);
    EXPECT_NE(trap.cpu.eflags() & flag::interrupt, 0U);
}

/// LTR and LLDT (Intel SDM vol. 2A): which descriptors each takes, and what it does with a task's.
TEST(CpuProtectedMode, TasksAndLocalTablesAreLoadedFromTheirDescriptors) {
    struct Row {
        const char* name;
        std::uint8_t access, selector;
        bool task;
        int vector;  ///< -1: it is loaded
        std::uint8_t access_then;
    };
    constexpr std::uint8_t ltr = 0xD8, lldt = 0xD0;
    for (const auto& row :
         {Row{"a task", 0x89, 0x50, true, -1, 0x8B}, Row{"a task of 16 bits", 0x81, 0x50, true, -1, 0x83},
          Row{"a task that runs", 0x8B, 0x50, true, 13, 0x8B},
          Row{"a task of 16 bits that runs", 0x83, 0x50, true, 13, 0x83},
          Row{"a task that is not present", 0x09, 0x50, true, 11, 0x09},
          Row{"a local table as a task", 0x82, 0x50, true, 13, 0x82}, Row{"data as a task", 0x92, 0x50, true, 13, 0x92},
          Row{"data of a task's number", 0x99, 0x50, true, 13, 0x99},
          Row{"a task in the local table", 0x89, 0x54, true, 13, 0x89},
          Row{"a local table", 0x82, 0x50, false, -1, 0x82},
          Row{"a local table that is not present", 0x02, 0x50, false, 11, 0x02},
          Row{"a task as a local table", 0x89, 0x50, false, 13, 0x89}}) {
        Protected machine({0x66, 0xB8, row.selector, 0x00, 0x0F, 0x00, row.task ? ltr : lldt, 0xF4});
        for (std::uint32_t n = 0; n < 32; ++n) machine.gate(n);
        machine.cpu.gpr[ESP] = 0x7000;
        machine.set(0x50, descriptor(0x123456, 0x0777, row.access, 0x0));
        machine.run();
        ASSERT_EQ(machine.cpu.stopped(), CpuStop::Halted) << row.name << ": " << machine.cpu.why();
        EXPECT_EQ(machine.ram.load<std::uint8_t>(gdt_at + 0x55), row.access_then) << row.name;
        if (row.vector >= 0) {
            EXPECT_EQ(static_cast<int>(machine.cpu.eip - 1 - 0xA000), row.vector) << row.name;
            EXPECT_EQ(machine.ram.load<std::uint32_t>(machine.cpu.gpr[ESP] & 0xFFFFU), row.selector) << row.name;
            continue;
        }
        EXPECT_EQ(machine.cpu.eip, 0x9008U) << row.name;
        const auto& loaded = row.task ? machine.cpu.task : machine.cpu.ldt;
        EXPECT_EQ(loaded.selector, 0x50) << row.name;
        EXPECT_EQ(loaded.base, 0x123456U) << row.name;
        EXPECT_EQ(loaded.limit, 0x0777U) << row.name;
    }
    // Nothing is a local table, and no task.
    Protected none({0x31, 0xC0, 0x0F, 0x00, lldt, 0x43, 0x0F, 0x00, ltr, 0xF4});
    for (std::uint32_t n = 0; n < 32; ++n) none.gate(n);
    none.cpu.gpr[ESP] = 0x7000;
    none.run();
    EXPECT_EQ(none.cpu.gpr[EBX], 1U);
    EXPECT_EQ(static_cast<int>(none.cpu.eip - 1 - 0xA000), 13);
}

TEST(CpuProtectedMode, AsksDescriptors) {
    // mov ax, 18; lsl ecx, ax; lar edx, ax; mov ax, 38… lsl with a bad selector leaves the register
    Protected machine({0x66, 0xB8, 0x18, 0x00, 0x0F, 0x03, 0xC8, 0x0F, 0x02, 0xD0, 0x0F, 0x00, 0xE8, 0x0F,
                       0x94, 0xC3, 0x66, 0xB8, 0x80, 0x00, 0x0F, 0x03, 0xF0, 0x0F, 0x94, 0xC7, 0xF4});
    machine.cpu.gpr[ESI] = 5;
    machine.run();
    EXPECT_EQ(machine.cpu.gpr[ECX], 0x0FFFU);
    EXPECT_EQ(machine.cpu.gpr[EDX], 0x00409200U);
    EXPECT_EQ(machine.cpu.gpr[EBX], 0x0001U) << "writable, and the second selector is not known";
    EXPECT_EQ(machine.cpu.gpr[ESI], 5U);
}

struct Foreign {
    const char* name;
    Code code;
    const char* why;
};
class CpuLeavesOut : public testing::TestWithParam<Foreign> {};
TEST_P(CpuLeavesOut, AndSaysSo) {
    Protected machine(GetParam().code);
    machine.set(0x50, descriptor(0, 0x67, 0x89, 0));       // a task
    machine.set(0x58, descriptor(0, 0xFFFFF, 0xFA, 0xC));  // code of privilege 3
    machine.run();
    EXPECT_EQ(machine.cpu.stopped(), CpuStop::Unsupported);
    EXPECT_EQ(machine.cpu.why(), GetParam().why);
    EXPECT_EQ(machine.cpu.run(), 0U);
}
INSTANTIATE_TEST_SUITE_P(
    All, CpuLeavesOut,
    testing::Values(Foreign{"Paging", {0x0F, 0x20, 0xC0, 0x0D, 0, 0, 0, 0x80, 0x0F, 0x22, 0xC0}, "paging"},
                    Foreign{"Task", {0xEA, 0, 0, 0, 0, 0x50, 0}, "a task switch"},
                    // push 5b; push 9000; retf
                    Foreign{"Privilege", {0x6A, 0x5B, 0x68, 0, 0x90, 0, 0, 0xCB}, "a return to another privilege"},
                    // push 20002; push 0; push 0; iret
                    Foreign{"Virtual8086", {0x68, 2, 0, 2, 0, 0x6A, 0, 0x6A, 0, 0xCF}, "virtual 8086 mode"}),
    [](const auto& which) { return std::string(which.param.name); });

/// Any bytes at all: it stays in its memory, and ends when it is told to.
TEST(Cpu, RunsNoise) {
    Chance random{std::mt19937(7)};
    for (unsigned n = 0; n < 200; ++n) {
        Code noise(4096);
        for (auto& byte : noise) byte = static_cast<std::uint8_t>(random());
        Protected machine(noise);
        for (std::uint32_t vector = 0; vector < 64; ++vector) machine.gate(vector, random() & 0xFFU);
        if (n % 2 == 0) {
            machine.ram.store(0x7C00, noise);
        }
        std::uint64_t done = 0;
        for (unsigned i = 0; i < 3000 && machine.cpu.stopped() == CpuStop::None; ++i) {
            done += machine.cpu.run();
            EXPECT_EQ(machine.cpu.gpr[8], 0U);
        }
        EXPECT_GT(done, 0U);
        EXPECT_LE(machine.ram.touched(), memory_size);
    }
}

TEST(CpuMemory, HasBounds) {
    Memory ram(3 * 4096 + 100, 2 * 4096);
    EXPECT_EQ(ram.size(), 3U * 4096);
    EXPECT_EQ(ram.load<std::uint32_t>(0), 0U);
    EXPECT_EQ(ram.touched(), 0U) << "a read makes nothing";
    ram.store<std::uint32_t>(4094, 0x44332211);
    EXPECT_EQ(ram.touched(), 8192U);
    EXPECT_EQ(ram.load<std::uint32_t>(4094), 0x44332211U);
    EXPECT_EQ(ram.load<std::uint16_t>(4096), 0x4433U);
    ram.store<std::uint8_t>(8192, 1);
    EXPECT_TRUE(ram.exhausted());
    EXPECT_EQ(ram.load<std::uint8_t>(8192), 0U);
    // Behind the end: ones, and nothing is kept.
    EXPECT_EQ(ram.load<std::uint32_t>(3 * 4096 - 2), 0xFFFF0000U);
    EXPECT_EQ(ram.load<std::uint32_t>(0xFFFFFFFE), 0x0000FFFFU) << "it goes on at 0";
    ram.store<std::uint32_t>(0xFFFFFFF0, 7);
    EXPECT_EQ(ram.load<std::uint32_t>(0xFFFFFFF0), 0xFFFFFFFFU);
}

}  // namespace
