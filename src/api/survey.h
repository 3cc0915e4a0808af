/* What lies where in a disk image: the table, its partitions, and what is outside of them. */
#ifndef MOS_API_SURVEY_H
#define MOS_API_SURVEY_H

#include "api/run.h"
#include "boot/environment.h"
#include "disk/table.h"
#include "fs/fs.h"

struct survey_span {
    uint64_t start, length;
    const struct mos_partition *partition; /* NULL: outside of the table, or there is none */
    bool has_volume;
    struct mos_volume_info volume;
    const char *what;          /* no volume: its content in words; NULL: cannot be told */
    struct mos_map variables;  /* an environment block */
    uint64_t environment_size; /* 0: it is none */
    bool flag_byte;
};

struct survey {
    mosaicum *m;
    struct mos_io io;
    int file;
    const struct mos_table_driver *driver; /* NULL: no table */
    struct mos_table_data table;
    struct mos_vec spans;    /* of struct survey_span, in order */
    struct mos_vec problems; /* of const char *: what is damaged */
};

/* Looks at an image; false with an error when it cannot be read.  Close it in any case that was
 * true. */
bool survey_open(mosaicum *m, const char *path, struct survey *out);
void survey_close(struct survey *s);

#endif
