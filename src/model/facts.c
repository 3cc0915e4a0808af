#include "model/facts.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

bool mos_board_is_via(const struct mos_board *board, enum mos_via via) {
    assert(board->boot);
    enum mos_via stated = mos_via_of(board->boot->via);
    return (stated == MOS_VIA_UNSTATED ? MOS_VIA_SCRIPT : stated) == via;
}

bool mos_board_is_direct(const struct mos_board *board) {
    return board->boot && mos_board_is_via(board, MOS_VIA_STAGE);
}

const struct mos_stage *mos_board_last_stage(const struct mos_board *board) {
    const struct mos_stage *last = mos_board_first_stage(board);
    for (size_t i = 0; i < board->stages.count; i++) { /* as many steps as there are stages */
        const struct mos_stage *next = NULL;
        for (size_t k = 0; last && k < board->stages.count && !next; k++) {
            const struct mos_stage *s = board->stages.items[k];
            next = mos_has(s->by) && !mos_stage_is_first(s) && s->by->target == last ? s : NULL;
        }
        last = next ? next : last;
    }
    return last;
}

/* ---- the console ---- */

static const struct mos_value *port_of(const struct mos_board *board) {
    const struct mos_hardware *h = board->hardware;
    return h && h->console && mos_has(h->console->port) ? h->console->port : NULL;
}

bool mos_board_is_mute(const struct mos_board *board) {
    const struct mos_value *port = port_of(board);
    return port && strcmp(port->text, "none") == 0;
}

const char *mos_board_port(const struct mos_board *board) {
    const struct mos_value *port = port_of(board);
    return port && !mos_board_is_mute(board) ? port->text : NULL;
}

struct mos_console_line mos_board_line(const struct mos_board *board, bool by_kernel) {
    const struct mos_hardware *h = board ? board->hardware : NULL;
    const struct mos_console *c = h ? h->console : NULL;
    struct mos_console_line line = {.baud = 115200, .data = 8, .stop = 1, .parity = 'N'};
    if (!c)
        return line;
    const struct mos_value *baud = !by_kernel && mos_has(c->loader_baud) ? c->loader_baud : c->baud;
    if (mos_has(baud))
        line.baud = (unsigned)baud->number;
    if (mos_has(c->frame)) { /* "7E1": one of the table's */
        line.data = (unsigned)(c->frame->text[0] - '0');
        line.parity = c->frame->text[1];
        line.stop = (unsigned)(c->frame->text[2] - '0');
    }
    return line;
}

const char *mos_board_console(const struct mos_board *board, struct mos_arena *arena) {
    const char *port = mos_board_port(board);
    const struct mos_value *baud = port ? board->hardware->console->baud : NULL;
    struct mos_console_line line = mos_board_line(board, true);
    bool usual = line.data == 8 && line.parity == 'N';
    if (!mos_has(baud))
        return port;
    return usual ? mos_printf(arena, "%s,%s", port, baud->text)
                 : mos_printf(arena, "%s,%s%c%u", port, baud->text,
                              tolower((unsigned char)line.parity), line.data);
}

/* ---- RAM ---- */

bool mos_ram_least(const struct mos_ram *ram, uint64_t *start, uint64_t *length) {
    *length = UINT64_MAX;
    for (size_t i = 0; i < ram->sizes.count; i++) {
        const struct mos_value *size = ram->sizes.items[i];
        if (mos_has(size) && size->number < *length)
            *length = size->number;
    }
    if (!mos_has(ram->start) || *length == UINT64_MAX || *length > UINT64_MAX - ram->start->number)
        return false;
    *start = ram->start->number;
    return true;
}

bool mos_ram_has(const struct mos_ram *ram, uint64_t length) {
    for (size_t i = 0; i < ram->sizes.count; i++) {
        const struct mos_value *size = ram->sizes.items[i];
        if (!mos_has(size) || size->number >= length)
            return true;
    }
    return false;
}

/* ---- the ROM ---- */

bool mos_stage_is_first(const struct mos_stage *stage) {
    return mos_has(stage->by) && strcmp(stage->by->text, "rom") == 0;
}

const struct mos_stage *mos_board_first_stage(const struct mos_board *board) {
    for (size_t i = 0; i < board->stages.count; i++)
        if (mos_stage_is_first(board->stages.items[i]))
            return board->stages.items[i];
    return NULL;
}

const struct mos_first_place *mos_board_first_place(const struct mos_board *board,
                                                    const struct mos_region *region,
                                                    const char *medium) {
    assert(medium);
    const struct mos_stage *s = mos_has(region->stage) ? region->stage->target : NULL;
    if (!board->rom || !s || !mos_stage_is_first(s))
        return NULL;
    return mos_named_get(&board->rom->first_stage, medium);
}
