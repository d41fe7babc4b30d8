/* kind == 1 && field == 5, as optimizers may ask: the field first. */
__asm__(".section .text.meets, \"ax\", @progbits\n"
        "meets:\n"
        "\tcmpl $5, 4(%rdi)\n"
        "\tjne 1f\n"
        "\tmovzbl (%rdi), %ecx\n"
        "\tcmpb $1, %cl\n"
        "\tjne 1f\n"
        "\tmovl $1, %eax\n"
        "\tret\n"
        "1:\txorl %ecx, %ecx\n"
        "\txorl %eax, %eax\n"
        "\tret\n"
        ".previous\n");
int meets(const void *ship);
