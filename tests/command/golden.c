/* What the commands say and make, word for word and byte for byte, as it was read and found good.
 * After a change that is meant: MOSAICUM_GOLDEN=write build/debug/tests/test-command, and read the
 * difference. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

/* Each runs in a copy of the demo, in this order; the sum of all that was made ends a file. */
static const struct {
    const char *name, *script; /* m: the program without a cache */
} jobs[] = {
    {"check", "m check; m check -v; m --json check"},
    {"mistakes",
     "for d in mistakes/*; do echo \"== $d\"; m -w $d check; m -w $d --json check curlew; done"},
    {"show", "for b in curlew+bench dunlin avocet+field; do for p in layout ram boot kernel tree "
             "env budgets; do "
             "m show $b $p; m --json show $b $p; done; m show $b layout ram --trail; done"},
    {"show-all",
     "for b in curlew dunlin avocet; do m show $b all; m --json show $b all | cksum; done"},
    {"list",
     "m list; m --json list; m compare curlew+bench curlew+field; m --json compare avocet dunlin"},
    {"build", "m build curlew+bench dunlin avocet; m build dunlin; m --json build dunlin; m list; "
              "cd out; for f in */*; "
              "do case $f in */ledger.json) sed 's/\"version\": .*//' $f;; *.txt) cat $f;; esac; "
              "cksum $f; done"},
    {"inspect",
     "for i in out/*/*.img; do m inspect $i; m inspect --files $i; done; m --json inspect --files "
     "out/dunlin/card.img; m compare out/dunlin/card.img out/avocet/emmc.img"},
    {"rehearse", "for b in curlew+bench dunlin avocet; do m rehearse $b; m -v rehearse $b; m "
                 "rehearse $b --faults; done; m "
                 "--json rehearse avocet; m --json rehearse dunlin --faults"},
    {"take", "i=out/dunlin/card.img; m take $i 2:etc/fstab; cat fstab; m take $i 2:etc -o etc.tar; "
             "tar --numeric-owner "
             "-tvf etc.tar; m take $i 1 -o boot; cksum boot; m amend $i 2:etc/issue=mosaicum.yaml "
             "'2:~etc/fstab' -o "
             "new.img; cksum new.img; m compare $i new.img; m take $i 2:nothing; m take $i 9"},
    {"new",
     "mkdir ../n; cd ../n; m new jetty --from ../w/out/dunlin/card.img; cat boards/jetty.yaml; m "
     "check -v; m build; cksum "
     "out/jetty/card.img; m new mast --cpu arm64 --ram-start 0x40000000 --ram '512 MiB' "
     "--console ttyAMA0,115200; "
     "cat boards/mast.yaml"},
    {"new-more",
     "mkdir ../n2; cd ../n2; o=../w/out; c=$o/curlew+bench/card.img; m new curlew-again --from $c; "
     "m "
     "new avocet-again --from $o/avocet/emmc.img; m new dunlin-again --from $o/dunlin/flash.img; m "
     "take "
     "$c boot -o boot.img; m take $c root -o root.img; m new one --from boot.img; m new two --from "
     "root.img --cpu arm --ram '64 MiB' --console none; m new 3x; m new four --cpu z80; m new five "
     "--ram 12; m new one; cat boards/*.yaml; m check; m list"},
    {"colour",
     "m --color always check; for d in mistakes/*; do m --color always -w $d check -v; done; m "
     "--color always inspect out/avocet/emmc.img; m --color always rehearse curlew+bench; m "
     "--color always show curlew ram; m --color always list; m --color always chekc"},
    {"pin", "m pin; m --json pin; m check --accept; cat waivers/* 2>/dev/null; echo x >> "
            "pieces/dunlin-zImage; m pin dunlin"},
    {"explain", "m explain | cat; m explain layout.overlap; m --json explain layout.overlap; m "
                "explain nothing"},
    {"wrong",
     "m check nosuch; m build nosuch; m show nosuch layout; m show; m list nosuch; m compare "
     "curlew "
     "nosuch; m compare curlew; m rehearse nosuch; m pin nosuch; m inspect; m inspect boards; m "
     "take; m "
     "amend; m amend mosaicum.yaml x=y -o z; m take out/dunlin/card.img 1:nosuch -o x; m check "
     "curlew+nosuch; m check curlew+bench+field; m check 'x*'; m build --out; m --colour never "
     "check; m "
     "--color pink check; m new; m new 'a b'; m new curlew; m explain nosuch; m check --strict; m "
     "--json check nosuch; m --json inspect none; m -q check nosuch"},
    {"help",
     "m --help; m; m chekc; m check --baud 9; m show; m take; m rehearse nothing; m show curlew "
     "layouts; m check 'curlew+[x'; m take nothing 1; m -w nowhere check"},
};

static void words_and_bytes_are_as_they_were(void) {
    char *w = test_folder("golden");
    CU_ASSERT_FATAL(
        runs(0,
             "mkdir '%s/w' && cp -r '%s'/demo/saltmarsh/. '%s'/demo/mistakes '%s/w/' && rm -rf "
             "'%s/w/out'",
             w, MOSAICUM_SOURCE, MOSAICUM_SOURCE, w, w));
    for (size_t i = 0; i < sizeof jobs / sizeof *jobs; i++) {
        struct outcome o =
            run_shell("export LC_ALL=C.UTF-8 TZ=UTC TERM=dumb; unset COLUMNS; cd '%s/w' && m() { "
                      "'%s' --no-cache \"$@\" 2>&1; s=$?; [ $s = 0 ] || echo "
                      "\"(status $s)\"; }; %s",
                      w, MOSAICUM_PROGRAM, jobs[i].script);
        hold_golden(jobs[i].name, o.out);
        outcome_free(&o);
    }
}

/* Every rule's finding, as text and as JSON. */
static void findings_are_as_they_were(void) {
    struct outcome o =
        run_shell("export LC_ALL=C.UTF-8; cd '%s/tests/rules' && for r in *; do echo \"== $r\"; "
                  "'%s' --no-cache -w "
                  "$r/fails check 2>&1; '%s' --no-cache --json -w $r/fails check; done",
                  MOSAICUM_SOURCE, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    hold_golden("rules", o.out);
    outcome_free(&o);
}

SUITE(golden_suite, {"words and bytes are as they were", words_and_bytes_are_as_they_were},
      {"findings are as they were", findings_are_as_they_were});
