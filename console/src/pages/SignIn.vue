<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, told } from '../api'
import { queries } from '../live'
import Trouble from '../parts/Trouble.vue'

const token = ref('')
const error = ref<Error | null>(null)
const busy = ref(false)
const route = useRoute()
const router = useRouter()

async function signIn() {
  busy.value = true
  error.value = null
  try {
    queries.setQueryData(['session'], await told(client.POST('/api/session', { body: { token: token.value } })))
    const to = route.query.to
    await router.replace(typeof to === 'string' && to.startsWith('/') && !to.startsWith('//') ? to : '/')
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="card" @submit.prevent="signIn">
    <h1><img src="/assets/lantern.svg" alt="" width="34" height="34" />Patient Lantern</h1>
    <label for="token">Operator's token</label>
    <el-input id="token" v-model="token" type="password" show-password autofocus placeholder="plo_…" autocomplete="current-password" size="large" />
    <el-button type="primary" native-type="submit" size="large" :loading="busy" :disabled="!token.trim()">Sign in</el-button>
    <Trouble :error="error" />
    <p class="soft">The first token was printed when the service was started for the first time. Others come from <code>lantern operator add NAME</code>.</p>
  </form>
</template>

<style scoped>
form {
  max-width: 420px;
  margin: 0 auto;
  padding: 32px;
  display: grid;
  gap: 14px;
}
h1 {
  display: flex;
  align-items: center;
  gap: 12px;
  margin-bottom: 8px;
}
p {
  margin: 0;
  font-size: 13px;
}
</style>
