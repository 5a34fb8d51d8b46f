/* What a board and those who ask it have in common: one line to it, one line back. */
#ifndef WIRE_H
#define WIRE_H

#define LINE 256

#endif
