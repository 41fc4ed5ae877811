// SPDX-License-Identifier: MIT
// Packers that only tests need: their libraries' licence is not one that the product may take on.
#pragma once

#include "forge/forge.hpp"

namespace support {

/// A file as lzop writes it.
forge::Bytes lzop(const forge::Bytes& plain);
/// The same with these checksums (0x01 Adler-32, 0x100 CRC-32 of what is unpacked, 0x02 and 0x200 of what is packed), a
/// filter (0x800), and the header of this version.
forge::Bytes lzop_with(const forge::Bytes& plain, std::uint32_t flags, std::uint16_t version);
/// One LZO1X block; `thorough`: by the packer that looks for the best matches.
forge::Bytes lzo1x(const forge::Bytes& plain, bool thorough = false);
/// One piece of a file that is kept packed on NTFS; `algorithm`: 1 LZX, else XPRESS. Empty: it does not shrink.
/// `level`: 0 the packer's default.
forge::Bytes pack_piece(const forge::Bytes& plain, std::uint32_t algorithm);
forge::Bytes pack_piece_at(const forge::Bytes& plain, std::uint32_t algorithm, unsigned level);

/// The same formats by their packaged decoders: what they make of `packed`; none: they refuse it.
std::optional<forge::Bytes> lzo1x_unpacked(const forge::Bytes& packed, std::size_t room);
std::optional<forge::Bytes> piece_unpacked(const forge::Bytes& packed, std::size_t size, std::uint32_t algorithm);

}  // namespace support
