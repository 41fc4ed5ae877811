// SPDX-License-Identifier: MIT
// Windows imaging files, as Microsoft's “Windows Imaging File Format” (2007) describes them.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// Where a resource lies.
struct WimResource {
    little_uint64_t size_flags;  ///< 56 bits: stored bytes; 8: 1 free, 2 metadata, 4 packed, 8 in several files
    little_uint64_t offset;      ///< bytes from the file's begin
    little_uint64_t plain_size;  ///< bytes when unpacked
};
BOOST_DESCRIBE_STRUCT(WimResource, (), (size_flags, offset, plain_size))
static_assert(sizeof(WimResource) == 24);

struct WimHeader {
    Bytes<8> magic;  ///< "MSWIM", zeros
    little_uint32_t head_size;
    little_uint32_t version;  ///< 1.13 as 10D00; 0E00: resources packed together
    little_uint32_t flags;    ///< 20000 XPRESS, 40000 LZX, 80000 LZMS; 2 packed; 40 being written
    little_uint32_t chunk;    ///< plain bytes of a packed piece
    Bytes<16> guid;
    little_uint16_t part;
    little_uint16_t parts;
    little_uint32_t images;
    WimResource table;
    WimResource xml;
    WimResource boot_metadata;
    little_uint32_t boot_image;  ///< from 1; 0: none is to be started
    WimResource integrity;
    Bytes<60> unused;
};
BOOST_DESCRIBE_STRUCT(WimHeader, (),
                      (magic, head_size, version, flags, chunk, guid, part, parts, images, table, xml, boot_metadata,
                       boot_image, integrity, unused))
static_assert(sizeof(WimHeader) == 208);

/// A row of the table of resources.
struct WimTableEntry {
    WimResource resource;
    little_uint16_t part;
    little_uint32_t references;
    Bytes<20> sha1;  ///< of the plain content
};
BOOST_DESCRIBE_STRUCT(WimTableEntry, (), (resource, part, references, sha1))
static_assert(sizeof(WimTableEntry) == 50);

/// Descriptors of access come first in an image's metadata; the root's entry follows at the next multiple of 8.
struct WimSecurity {
    little_uint32_t size;  ///< of all of it
    little_uint32_t count;
};
BOOST_DESCRIBE_STRUCT(WimSecurity, (), (size, count))
static_assert(sizeof(WimSecurity) == 8);

/// A file or directory; its name (UTF-16) and its short name follow, each with a zero, then its further streams.
struct WimEntry {
    little_uint64_t size;  ///< without the streams; 0: the directory ends
    little_uint32_t attributes;
    little_uint32_t security;
    little_uint64_t children;  ///< of a directory: where they begin in the metadata; 0: none
    Bytes<16> unused;
    little_uint64_t created;
    little_uint64_t accessed;
    little_uint64_t written;  ///< 100 ns since 1601
    Bytes<20> sha1;
    little_uint32_t reparse_tag;
    little_uint64_t hard_link;
    little_uint16_t streams;
    little_uint16_t short_name_size;  ///< bytes
    little_uint16_t name_size;        ///< bytes
};
BOOST_DESCRIBE_STRUCT(WimEntry, (),
                      (size, attributes, security, children, unused, created, accessed, written, sha1, reparse_tag,
                       hard_link, streams, short_name_size, name_size))
static_assert(sizeof(WimEntry) == 102);

/// A further stream of a file: its name follows. The one without a name is the content.
struct WimStream {
    little_uint64_t size;
    little_uint64_t unused;
    Bytes<20> sha1;
    little_uint16_t name_size;  ///< bytes
};
BOOST_DESCRIBE_STRUCT(WimStream, (), (size, unused, sha1, name_size))
static_assert(sizeof(WimStream) == 38);

}  // namespace herberge::ondisk
