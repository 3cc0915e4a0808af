#include "api/run.h"

#include "api/embedded.h"

#include <errno.h>
#include <string.h>

static bool any_name(void *self, const char *name) {
    (void)name;
    *(bool *)self = true;
    return false;
}

static bool write_file(mosaicum *m, const char *folder, const struct mos_embedded_file *f) {
    const struct mos_host *h = m->ctx.host;
    const char *path = mos_path_join(m->arena, folder, f->path);
    int file;
    int e = h->make_folder(h, mos_path_folder(m->arena, path));
    if (!e)
        e = h->open(h, path, MOS_OPEN_NEW, &file);
    if (!e) {
        e = f->length ? h->pwrite(h, file, f->bytes, f->length, 0) : 0;
        h->close(h, file);
    }
    return e ? mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", path) : true;
}

enum mosaicum_status mosaicum_demo(mosaicum *m, const char *folder) {
    const struct mos_host *h = m->ctx.host;
    struct mos_file_info info;
    bool filled = false;
    if (setjmp(m->out_of_memory))
        return MOSAICUM_SYSTEM;
    run_allow(m, folder, MOS_REACH_READ | MOS_REACH_WRITE);
    if (h->info(h, folder, true, &info) == 0 &&
        (info.kind != MOS_FILE_FOLDER || (h->list(h, folder, any_name, &filled), filled)))
        mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                 "%s is there already and not empty; the demo wants a folder of its own", folder);
    for (size_t i = 0; i < mos_embedded_demo_count && !m->error.kind; i++)
        write_file(m, folder, &mos_embedded_demo[i]);
    return run_status(m);
}
