/** Puts the question whether it is still you over whatever page or dialogue is open, while somebody is being asked. */
import { defineAsyncComponent, watch } from 'vue'
import { asking } from '@/api/confirming'
import { over } from '@/ui/dialogs'

// Not needed before something is guarded.
const ConfirmQuestion = defineAsyncComponent(() => import('./ConfirmQuestion.vue'))

watch(asking, (question) => (over.value = question && ConfirmQuestion))
