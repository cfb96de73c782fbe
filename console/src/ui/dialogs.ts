/** Dialogues that are open over each other. What must be asked over all of them is put into the one on top, so that it closes none of
 * those below. */
import { ref, shallowRef, type Component } from 'vue'

/** How many are open. */
export const openDialogs = ref(0)

/** What is asked over everything, while it is. */
export const over = shallowRef<Component>()
