/** The console's entry: its cache of answers, its router, and the one handler of what nobody caught. */
import { QueryCache, QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { createApp } from 'vue'
import { Problem } from '@/api/client'
import { paths } from '@/lib/paths'
import App from './App.vue'
import { report } from './faults'
import { makeRouter } from './router'
import './preferences'
import './theme.css'

const cache: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    onError: (problem) => {
      const current = router.currentRoute.value
      if (problem instanceof Problem && problem.status === 401 && !current.meta.isOpen && current.matched.length > 0) {
        cache.clear()
        void router.push({ path: paths.signIn, query: { then: current.fullPath } })
      }
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 2_000,
      // What the service said is wrong stays wrong; only silence is worth another try.
      retry: (count, problem) =>
        count < 2 && problem instanceof Problem && (problem.status === 0 || problem.status === 503),
    },
  },
})
const router = makeRouter(cache)

const app = createApp(App)
app.config.errorHandler = report
window.addEventListener('unhandledrejection', (event) => report(event.reason))
app.use(router).use(VueQueryPlugin, { queryClient: cache }).mount('#app')
