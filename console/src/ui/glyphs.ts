// The small pictures of entries. A list has hundreds of entries, so each picture is drawn once in the page, and used from there.
import Check from "@lucide/svelte/icons/check";
import Files from "@lucide/svelte/icons/files";
import Image from "@lucide/svelte/icons/image";
import Link from "@lucide/svelte/icons/link";
import Lock from "@lucide/svelte/icons/lock";
import Pin from "@lucide/svelte/icons/pin";
import Type from "@lucide/svelte/icons/type";

export const GLYPHS = { text: Type, link: Link, image: Image, files: Files, sensitive: Lock, chosen: Check, pin: Pin };

export type GlyphName = keyof typeof GLYPHS;
