<script setup lang="ts">
/** Who am I here, how do I sign in, and what is signed in as me? From `/me` and `/tokens`. */
import { computed } from 'vue'
import { useMe } from '@/api/resources'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import CodesSection from './CodesSection.vue'
import PasswordSection from './PasswordSection.vue'
import TokenSection from './TokenSection.vue'

const me = useMe()
const opening = computed(() => {
  const person = me.data.value
  if (!person) return ''
  const role = person.team ? `${person.role} of ${person.team}` : person.role
  const app = person.codes_since ? ' and a code of your authenticator app' : ''
  const way = person.has_password ? `your password${app}` : 'one-time sign-ins alone'
  return `You are ${person.name}, ${role}. You sign in with ${way}.`
})
</script>

<template>
  <PageHead title="You" />
  <FourStates what="who you are" :query="me" @retry="me.refetch()">
    <template v-if="me.data.value">
      <p class="mb-2">{{ opening }}</p>
      <p v-if="me.data.value.lacks_codes" class="text-caution mb-2" role="status">
        An authenticator app is asked for of every {{ me.data.value.role }} here: set yours up, and everything else
        opens.
      </p>
      <CodesSection :me="me.data.value" />
      <template v-if="!me.data.value.lacks_codes">
        <PasswordSection :me="me.data.value" />
        <TokenSection />
      </template>
    </template>
  </FourStates>
</template>
