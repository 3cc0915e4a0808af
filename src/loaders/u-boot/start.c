/* What this loader does by itself: its own tree is placed, and bootcmd is run. */
#include "loaders/u-boot/inside.h"
#include "loaders/u-boot/u-boot.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

/* The loader's own tree lies below the loader: scripts pass its address on. */
static void place_control_tree(struct sim *s) {
    const struct mos_rig *m = s->rig;
    if (!m->tree || !m->ram.length)
        return;
    uint64_t top = m->loader_from ? m->loader_from : m->ram.start + m->ram.length;
    uint64_t at = mos_round_up(top, 4096);
    if (!sim_ram_is(s, at, m->tree_length))
        at = mos_round_down(top - m->tree_length, 4096);
    sim_ram_write(s, at, m->tree, m->tree_length);
    sim_ram_claim(s, at, m->tree_length, "the loader's own tree");
    sim_set_number(s, "fdtcontroladdr", at);
    const char *given = sim_get(s, "fdt_addr"); /* where the firmware before it left the tree */
    if (given && sim_address(given, &at) && sim_ram_is(s, at, m->tree_length)) {
        sim_ram_write(s, at, m->tree, m->tree_length);
        sim_ram_claim(s, at, m->tree_length, "the machine's tree");
    }
}

static void wake(struct sim *s) {
    if (!s->own)
        s->own = mos_alloc(s->arena, sizeof(struct ub_own));
    *own(s) = (struct ub_own){.command = ub_command};
    ub_environment_start(s);
    place_control_tree(s);
}

static void start(struct sim *s) {
    const char *boot = sim_get(s, "bootcmd"), *delay = sim_get(s, "bootdelay");
    if (boot && !(delay && strtol(delay, NULL, 10) == -1))
        ub_run_variable(s, "bootcmd");
    else
        sim_trouble(s, boot ? "bootdelay is -1: the loader waits for somebody to type"
                            : "there is no variable bootcmd: nothing is started");
}

static void type(struct sim *s, const char *text) {
    text = mos_printf(s->arena, "%s\n", text);
    ub_run_text(s, text, strlen(text), 0);
}

const struct sim_loader ub_simulated = {.wake = wake, .start = start, .type = type};
