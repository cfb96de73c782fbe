/** A first request with a new key, ready for a shell. */
export function firstRequest(key: string, route: string): string {
  const body = JSON.stringify({
    model: route,
    stream: true,
    messages: [{ role: 'user', content: 'When does the last boat leave on Sundays?' }],
  })
  return [
    `curl -N ${window.location.origin}/v1/chat/completions \\`,
    `  -H 'Authorization: Bearer ${key}' \\`,
    `  -H 'Content-Type: application/json' \\`,
    `  -d '${body}'`,
  ].join('\n')
}
