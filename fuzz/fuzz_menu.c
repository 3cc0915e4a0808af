/* Boot menu files, read and written again: what was understood stays the same. */
#include "harness.h"

#include "loaders/u-boot/menu.h"

struct input {
    const char *text;
    size_t length;
};

/* Every file that is included is the second half of this one. */
static bool read_again(void *self, struct mos_menu *menu, const char *path, const char **text,
                       size_t *length) {
    const struct input *in = self;
    menu->said.length = 0;
    *text = in->text + in->length / 2;
    *length = in->length - in->length / 2;
    return *path != 'x';
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct input in = {(const char *)data, size};
    struct mos_menu_files files = {&in, read_again};
    struct mos_menu m = mos_menu_read(ctx->arena, (const char *)data, size, &files);
    struct mos_buf out = {.arena = ctx->arena};
    for (size_t i = 0; i < m.entries.count; i++) { /* by initrd= it may be what no line can say */
        const struct mos_menu_entry *e = mos_vec_at(&m.entries, i);
        if (e->ramdisk && (unsigned char)*e->ramdisk <= ' ')
            return;
    }
    mos_menu_write(&m, "again", &out);
    struct mos_menu again = mos_menu_read(ctx->arena, mos_buf_string(&out), out.length, NULL);
    if (again.entries.count != m.entries.count)
        __builtin_trap();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
