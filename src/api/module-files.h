/* The index of a folder of kernel modules, made from whatever holds the folder. */
#ifndef MOS_API_MODULE_FILES_H
#define MOS_API_MODULE_FILES_H

#include "api/run.h"
#include "linux/module-index.h"

struct module_index {
    struct mos_vec files; /* of struct mos_index_file; none where there is no module */
    size_t modules;
    struct mos_index_lack lack;
};

/* stream sends all entries, as often as it is asked; folder: "lib/modules/6.1.0" in its paths, or
 * the same below usr/.  false with an error. */
bool module_index_of(mosaicum *m, const char *folder,
                     bool (*stream)(void *self, const struct mos_sink *sink), void *self,
                     struct module_index *out);
/* "module a needs b, which is not there (and 2 more)" */
const char *module_lack_text(struct mos_arena *arena, const struct mos_index_lack *lack);

#endif
