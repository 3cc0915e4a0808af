#include "disk/member.h"

#include "base/bytes.h"

#include <string.h>

/* Where the descriptor of a RAID lies, in its four versions (include/uapi/linux/raid/md_p.h): the
 * first two before the data, the others at the end. */
enum { RAID_1_2 = 4096, RAID_BACK = 64 << 10, RAID_1_0 = 8 << 10 };
static const uint8_t raid_magic[4] = {0xfc, 0x4e, 0x2b, 0xa9};

static bool text_at(struct mos_io *io, uint64_t offset, const void *text, size_t length,
                    int *errnum) {
    uint8_t found[16];
    if (offset > io->size || length > io->size - offset)
        return false;
    int e = mos_io_read(io, found, length, offset);
    if (e)
        *errnum = e;
    return !e && memcmp(found, text, length) == 0;
}

static bool raid(struct mos_io *io, int *errnum) {
    uint64_t end = mos_round_down(io->size, 4096);
    return text_at(io, 0, raid_magic, 4, errnum) || text_at(io, RAID_1_2, raid_magic, 4, errnum) ||
           (end >= 2 * RAID_BACK &&
            (text_at(io, end - RAID_1_0, raid_magic, 4, errnum) ||
             text_at(io, mos_round_down(io->size, RAID_BACK) - RAID_BACK, raid_magic, 4, errnum)));
}

const char *mos_member_of(struct mos_io *io, int *errnum) {
    static const struct {
        uint64_t offset;
        const char *text, *what;
    } rows[] = {
        {0, "LABELONE", "a volume group"},
        {512, "LABELONE", "a volume group"},
        {1024, "LABELONE", "a volume group"},
        {1536, "LABELONE", "a volume group"},
        {4096 + 24, "\xc6\x85\x73\xf6\x4e\x1a\x45\xca", "a disk cache"},
    };
    *errnum = 0;
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (text_at(io, rows[i].offset, rows[i].text, 8, errnum))
            return rows[i].what;
    return raid(io, errnum) ? "a RAID array" : NULL;
}
