/* File systems and containers that are recognised by their superblocks and left as they are. */
#include "fs/fs.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <string.h>

static const struct {
    const char *kind;
    uint32_t at; /* offset of the magic */
    uint8_t length;
    const char *magic;
    int32_t label, label_length, id; /* offsets of label and UUID; 0: it has none */
} kinds[] = {
    {"squashfs", 0, 4, "hsqs", 0, 0, 0}, /* of a kind that the driver does not read */
    {"erofs", 1024, 4, "\xe2\xe1\xf5\xe0", 1024 + 64, 16, 1024 + 48},
    {"f2fs", 1024, 4, "\x10\x20\xf5\xf2", 0, 0, 1024 + 108},
    {"ubi", 0, 4, "UBI#", 0, 0, 0},
    {"ubifs", 0, 4, "\x31\x18\x10\x06", 0, 0, 0},
    {"jffs2", 0, 2, "\x85\x19", 0, 0, 0},
    {"xfs", 0, 4, "XFSB", 108, 12, 32},
    {"btrfs", 65536 + 64, 8, "_BHRfS_M", 65536 + 299, 255, 65536 + 32},
    {"luks", 0, 6, "LUKS\xba\xbe", 0, 0, 0},
    {"iso9660", 32769, 5, "CD001", 32808, 32, 0},
    {"romfs", 0, 8, "-rom1fs-", 16, 16, 0},
    {"cramfs", 0, 4, "\x45\x3d\xcd\x28", 48, 16, 0},

};

bool mos_fs_foreign(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out) {
    uint8_t head[16], id[16];
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++) {
        size_t n = kinds[i].length;
        if (io->size < kinds[i].at + n || mos_io_read(io, head, n, kinds[i].at) ||
            memcmp(head, kinds[i].magic, n) != 0)
            continue;
        *out = (struct mos_volume_info){.kind = kinds[i].kind,
                                        .label = "",
                                        .id = "",
                                        .size = io->size,
                                        .names = mos_vec_make(arena, sizeof(char *))};
        char label[256] = "";
        size_t length = (size_t)kinds[i].label_length;
        if (length && !mos_io_read(io, label, length, (uint64_t)kinds[i].label)) {
            for (size_t k = strlen(label); k && label[k - 1] == ' '; k--)
                label[k - 1] = 0;
            out->label = mos_strdup(arena, label);
        }
        if (kinds[i].id && !mos_io_read(io, id, sizeof id, (uint64_t)kinds[i].id)) {
            char text[37];
            mos_uuid_text(id, text);
            out->id = mos_strdup(arena, text);
        }
        return true;
    }
    return false;
}
