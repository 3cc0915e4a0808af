/* What `inspect` reads: GPT, MBR, file-system probes, kernel headers.  The sums of a GPT in the
 * input are put right first. */
#include "harness.h"

#include "base/bytes.h"
#include "disk/table.h"
#include "fs/fs.h"
#include "linux/image.h"

static void mend_gpt(uint8_t *d, size_t size) {
    if (size < 2048 || memcmp(d + 512, "EFI PART", 8) != 0)
        return;
    uint64_t count = mos_le32(d + 592), entry = mos_le32(d + 596), at = mos_le64(d + 584);
    if (entry && count < 4096 && entry < 4096 && at < size / 512 &&
        count * entry <= size - at * 512)
        mos_put_le32(d + 600, mos_crc32(0, d + at * 512, (size_t)(count * entry)));
    mos_put_le32(d + 528, 0);
    mos_put_le32(d + 528, mos_crc32(0, d + 512, mos_le32(d + 524) <= 512 ? mos_le32(d + 524) : 92));
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    uint8_t *copy = (uint8_t *)mos_strndup(ctx->arena, (const char *)data, size);
    mend_gpt(copy, size);
    struct mos_io io = mos_io_memory(ctx->arena, copy, size);
    struct mos_table_data table;
    struct mos_volume_info volume;
    struct mos_kernel_header header;
    struct mos_vec problems = mos_vec_make(ctx->arena, sizeof(char *));
    mos_table_gpt.read(&io, ctx->arena, &table, &problems);
    mos_table_mbr.read(&io, ctx->arena, &table, &problems);
    mos_fs_probe(&io, ctx->arena, &volume);
    mos_kernel_read(copy, size, size, &header);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
