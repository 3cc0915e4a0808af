/* The compressions of squashfs volumes, one row each. */
#include "fs/squashfs/squashfs_internal.h"

#include "base/bytes.h"

#include <lz4.h>
#include <lzma.h>
#include <lzo/lzo1x.h>
#include <string.h>
#include <zlib.h>
#include <zstd.h>

/* ---- gzip: a zlib stream ---- */

static size_t encode_gzip(const uint8_t *from, size_t length, uint8_t *to, size_t room,
                          uint32_t block_size) {
    uLongf got = (uLongf)room;
    (void)block_size;
    return compress2(to, &got, from, (uLong)length, Z_BEST_COMPRESSION) == Z_OK ? got : 0;
}

static bool decode_gzip(const uint8_t *from, size_t packed, uint8_t *to, size_t *length) {
    uLongf got = (uLongf)*length;
    if (uncompress(to, &got, from, (uLong)packed) != Z_OK)
        return false;
    *length = got;
    return true;
}

/* ---- xz: the kernel's decoder has a dictionary of one block, and no other sum than CRC-32 ---- */

static size_t encode_xz(const uint8_t *from, size_t length, uint8_t *to, size_t room,
                        uint32_t block_size) {
    lzma_options_lzma options;
    size_t got = 0;
    if (lzma_lzma_preset(&options, LZMA_PRESET_DEFAULT))
        return 0;
    options.dict_size = block_size > SQ_METADATA ? block_size : SQ_METADATA;
    lzma_filter filters[] = {{LZMA_FILTER_LZMA2, &options}, {LZMA_VLI_UNKNOWN, NULL}};
    return lzma_stream_buffer_encode(filters, LZMA_CHECK_CRC32, NULL, from, length, to, &got,
                                     room) == LZMA_OK
               ? got
               : 0;
}

static bool decode_xz(const uint8_t *from, size_t packed, uint8_t *to, size_t *length) {
    uint64_t memory = 64 << 20;
    size_t in = 0, got = 0;
    if (lzma_stream_buffer_decode(&memory, 0, NULL, from, &in, packed, to, &got, *length) !=
        LZMA_OK)
        return false;
    *length = got;
    return true;
}

/* ---- zstd ---- */

enum { ZSTD_LEVEL = 15 };

static size_t encode_zstd(const uint8_t *from, size_t length, uint8_t *to, size_t room,
                          uint32_t block_size) {
    (void)block_size;
    size_t got = ZSTD_compress(to, room, from, length, ZSTD_LEVEL);
    return ZSTD_isError(got) ? 0 : got;
}

static bool decode_zstd(const uint8_t *from, size_t packed, uint8_t *to, size_t *length) {
    size_t got = ZSTD_decompress(to, *length, from, packed);
    if (ZSTD_isError(got))
        return false;
    *length = got;
    return true;
}

/* ---- only read ---- */

static bool decode_lz4(const uint8_t *from, size_t packed, uint8_t *to, size_t *length) {
    int got = LZ4_decompress_safe((const char *)from, (char *)to, (int)packed, (int)*length);
    if (got < 0)
        return false;
    *length = (size_t)got;
    return true;
}

static bool decode_lzo(const uint8_t *from, size_t packed, uint8_t *to, size_t *length) {
    lzo_uint got = (lzo_uint)*length;
    if (lzo1x_decompress_safe(from, (lzo_uint)packed, to, &got, NULL) != LZO_E_OK)
        return false;
    *length = got;
    return true;
}

static const struct sq_codec codecs[] = {
    {"gz", "gzip", 1, "CONFIG_SQUASHFS_ZLIB", encode_gzip, decode_gzip},
    {"xz", "xz", 4, "CONFIG_SQUASHFS_XZ", encode_xz, decode_xz},
    {"zst", "zstd", 6, "CONFIG_SQUASHFS_ZSTD", encode_zstd, decode_zstd},
    {NULL, "lz4", 5, "CONFIG_SQUASHFS_LZ4", NULL, decode_lz4},
    {NULL, "lzo", 3, "CONFIG_SQUASHFS_LZO", NULL, decode_lzo},
};
enum { CODECS = sizeof codecs / sizeof *codecs };

const struct sq_codec *sq_codec_named(const char *name) {
    for (size_t i = 0; name && i < CODECS; i++)
        if (codecs[i].name && strcmp(codecs[i].name, name) == 0)
            return &codecs[i];
    return &codecs[0];
}

const char *sq_codec_version(const struct sq_codec *codec) {
    return codec->encode == encode_zstd ? ZSTD_versionString()
           : codec->encode == encode_xz ? lzma_version_string()
                                        : zlibVersion();
}

const struct sq_codec *sq_codec_with(unsigned id) {
    for (size_t i = 0; i < CODECS; i++)
        if (codecs[i].id == id)
            return &codecs[i];
    return NULL;
}
