#include "cli.h"
int command_demo(int argc, const char **argv) { (void)argc; (void)argv; return 0; }
