// SPDX-License-Identifier: MIT
// String instructions with their repetitions, and ports.
#include <algorithm>

#include "rehearsal/cpu/operations.hpp"

namespace herberge::rehearsal {

namespace {

/// A repetition gives control back after so many elements, and goes on from there: an interrupt may come in between.
constexpr std::uint32_t most_elements = 1U << 16U;

template <bool Wide>
std::uint32_t index_of(const Cpu& cpu, unsigned which) {
    return Wide ? cpu.gpr[which] : cpu.gpr[which] & 0xFFFFU;
}
template <bool Wide>
void set_index(Cpu& cpu, unsigned which, std::uint32_t value) {
    if constexpr (Wide) cpu.gpr[which] = value;
    else cpu.set_word(which, static_cast<std::uint16_t>(value));
}
template <class T>
std::uint32_t step(const Cpu& cpu) {
    constexpr auto size = static_cast<std::uint32_t>(sizeof(T));
    return (cpu.other_flags & flag::direction) != 0 ? 0U - size : size;
}

/// One element; false: the comparison ends the repetition.
template <std::uint8_t Opcode, class T, bool Wide>
void element(Cpu& cpu, const Operation& op) {
    const std::uint32_t from = index_of<Wide>(cpu, ESI), to = index_of<Wide>(cpu, EDI);
    constexpr unsigned accumulator = sizeof(T) == 1 ? 0 : EAX;
    if constexpr (Opcode == 0xA4) store<T>(cpu, ES, to, load<T>(cpu, op.segment, from));
    else if constexpr (Opcode == 0xA6) {
        const T first = load<T>(cpu, op.segment, from);
        subtract<T>(cpu, first, load<T>(cpu, ES, to));
    } else if constexpr (Opcode == 0xAA) store<T>(cpu, ES, to, get<T>(cpu, accumulator));
    else if constexpr (Opcode == 0xAC) set<T>(cpu, accumulator, load<T>(cpu, op.segment, from));
    else if constexpr (Opcode == 0xAE) subtract<T>(cpu, get<T>(cpu, accumulator), load<T>(cpu, ES, to));
    else if constexpr (Opcode == 0x6C) {
        (void)writable(cpu, ES, to, sizeof(T));
        store<T>(cpu, ES, to, static_cast<T>(cpu.ports.port_in(cpu.word(EDX), sizeof(T))));
    } else cpu.ports.port_out(cpu.word(EDX), load<T>(cpu, op.segment, from), sizeof(T));
    constexpr bool reads = Opcode == 0xA4 || Opcode == 0xA6 || Opcode == 0xAC || Opcode == 0x6E;
    constexpr bool writes = Opcode == 0xA4 || Opcode == 0xA6 || Opcode == 0xAA || Opcode == 0xAE || Opcode == 0x6C;
    if constexpr (reads) set_index<Wide>(cpu, ESI, from + step<T>(cpu));
    if constexpr (writes) set_index<Wide>(cpu, EDI, to + step<T>(cpu));
}

/// Elements of `size` bytes that follow one another from `at` on, up or down, and lie between `first` and `last`, with
/// both.
std::uint32_t elements_within(std::uint32_t at, std::uint32_t size, bool down, std::uint32_t first,
                              std::uint32_t last) {
    if (at < first || at > last || last - at < size - 1) return 0;
    constexpr std::uint32_t most = Memory::page_size;
    return std::min(down ? at - first : last - at - (size - 1), most) / size + 1;
}

/// Moves as many elements at once as can be; none where each needs a look of its own.
template <class T, bool Wide>
std::uint32_t move_many(Cpu& cpu, const Operation& op, std::uint32_t most) {
    constexpr auto size = static_cast<std::uint32_t>(sizeof(T));
    const Segment &source = cpu.segments[op.segment], &target = cpu.segments[ES];
    if (!source.can_read || !target.can_write) return 0;
    const bool down = (cpu.other_flags & flag::direction) != 0;
    const std::uint32_t from = index_of<Wide>(cpu, ESI), to = index_of<Wide>(cpu, EDI);
    const std::uint32_t read = source.base + from, written = target.base + to;
    // What the move writes itself and reads again is moved in pieces of that distance.
    const std::uint32_t distance = (down ? read - written : written - read) / size;
    const std::uint32_t elements =
        std::min({most, distance == 0 ? 1 : distance, elements_within(from, size, down, source.first, source.last),
                  elements_within(to, size, down, target.first, target.last),
                  elements_within(read % Memory::page_size, size, down, 0, Memory::page_size - 1),
                  elements_within(written % Memory::piece_size, size, down, 0, Memory::piece_size - 1)});
    if (elements == 0) return 0;
    const std::uint32_t below = down ? (elements - 1) * size : 0;
    if (!cpu.memory.move(written - below, read - below, elements * size, down)) return 0;
    const std::uint32_t passed = elements * step<T>(cpu);
    set_index<Wide>(cpu, ESI, from + passed);
    set_index<Wide>(cpu, EDI, to + passed);
    return elements;
}

template <std::uint8_t Opcode, class T, bool Wide>
void run_string(Cpu& cpu, const Operation& op) {
    if (op.repeat == 0) {
        element<Opcode, T, Wide>(cpu, op);
        cpu.eip = next_eip(cpu, op);
        return;
    }
    constexpr bool compares = Opcode == 0xA6 || Opcode == 0xAE;
    std::uint32_t done = 0;
    std::uint32_t count = index_of<Wide>(cpu, ECX);
    const std::uint32_t most = cpu.trapped ? 1 : most_elements;
    while (count != 0 && done < most) {
        if constexpr (Opcode == 0xA4)
            if (const auto moved = move_many<T, Wide>(cpu, op, std::min(count, most - done)); moved != 0) {
                set_index<Wide>(cpu, ECX, count -= moved);
                done += moved;
                continue;
            }
        // A fault leaves the elements that are done, done.
        element<Opcode, T, Wide>(cpu, op);
        set_index<Wide>(cpu, ECX, --count);
        ++done;
        if (compares && zero(cpu) != (op.repeat == 0xF3)) {
            count = 0;
            break;
        }
    }
    cpu.add_work(done);
    cpu.eip = next_eip(cpu, op) - (count != 0 ? op.length : 0);
}

template <std::uint8_t Opcode, class T>
void run_port(Cpu& cpu, const Operation& op) {
    constexpr unsigned accumulator = sizeof(T) == 1 ? 0 : EAX;
    const std::uint16_t number = Opcode >= 0xEC ? cpu.word(EDX) : static_cast<std::uint16_t>(op.immediate & 0xFFU);
    constexpr bool out = (Opcode & 2U) != 0;
    if constexpr (out) cpu.ports.port_out(number, get<T>(cpu, accumulator), sizeof(T));
    else set<T>(cpu, accumulator, static_cast<T>(cpu.ports.port_in(number, sizeof(T))));
}

template <std::uint8_t Opcode, class T>
Handler pick(bool wide) {
    return wide ? run_string<Opcode, T, true> : run_string<Opcode, T, false>;
}
template <std::uint8_t Opcode>
Handler pick_size(unsigned size, bool wide) {
    switch (size) {
        case 0: return pick<Opcode, std::uint8_t>(wide);
        case 1: return pick<Opcode, std::uint16_t>(wide);
        default: return pick<Opcode, std::uint32_t>(wide);
    }
}
template <std::uint8_t Opcode>
Handler pick_port(unsigned size) {
    switch (size) {
        case 0: return run_port<Opcode, std::uint8_t>;
        case 1: return run_port<Opcode, std::uint16_t>;
        default: return run_port<Opcode, std::uint32_t>;
    }
}

}  // namespace

Handler string(std::uint8_t opcode, unsigned size, bool wide) {
    switch (opcode & 0xFEU) {
        case 0xA4: return pick_size<0xA4>(size, wide);
        case 0xA6: return pick_size<0xA6>(size, wide);
        case 0xAA: return pick_size<0xAA>(size, wide);
        case 0xAC: return pick_size<0xAC>(size, wide);
        case 0xAE: return pick_size<0xAE>(size, wide);
        case 0x6C: return pick_size<0x6C>(size, wide);
        default: return pick_size<0x6E>(size, wide);
    }
}
Handler port(std::uint8_t opcode, unsigned size) {
    switch (opcode & 0xFEU) {
        case 0xE4: return pick_port<0xE4>(size);
        case 0xE6: return pick_port<0xE6>(size);
        case 0xEC: return pick_port<0xEC>(size);
        default: return pick_port<0xEE>(size);
    }
}

}  // namespace herberge::rehearsal
