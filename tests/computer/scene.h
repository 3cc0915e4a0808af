/* A workspace with a small card image, and a made-up computer that it is written on. */
#ifndef MOS_TESTS_SCENE_H
#define MOS_TESTS_SCENE_H

#include "computer/card.h"
#include "computer/made-up.h"
#include "mosaicum/mosaicum.h"

struct scene {
    struct core core;
    struct mos_host host;
    char *folder, *path; /* a workspace, and the image in it */
    uint8_t *image;
};

void scene_start(struct scene *s);
void scene_end(struct scene *s);
/* What begins with /dev/ is there from now on, and can only be read as a device. */
void scene_has_device_files(struct scene *s);
/* Another build of the image. */
void scene_build(struct scene *s, uint64_t seed, const char *stamp);
/* A computer of that text; one with a card of so many MiB in its reader, sdb, and more lines. */
struct made_up *scene_computer(const char *text);
struct made_up *scene_card(unsigned mib, const char *more);
/* The card's bytes, as something else left them: a table of its own, and noise. */
struct made_up_device *scene_noise(struct scene *s, struct made_up *m);

/* ---- one write ---- */

struct result {
    enum mosaicum_status status;
    char rules[400]; /* of all findings, each once */
    char error[300], results[400], why[400];
};

/* Consents to everything; for struct mosaicum_write. */
bool scene_consents(void *self, const char *device, const char *token);
/* r.what NULL: the scene's image; "": a pattern.  Nobody asks where nothing is said. */
struct result scene_write(struct scene *s, struct made_up *m, struct mosaicum_write r,
                          const char *path);
/* The token that `devices` shows for a path; "": none. */
const char *scene_token(struct scene *s, struct made_up *m, const char *path, char out[5]);

/* ---- what a device holds ---- */

bool scene_has_table(struct scene *s, const struct made_up_device *d);
/* All that the ledger defines is there, but for regions that stay. */
bool scene_carries(const struct scene *s, const struct made_up_device *d, bool all);

#endif
