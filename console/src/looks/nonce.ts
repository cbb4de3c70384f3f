/** The nonce of this page: the server lets only styles with it count. */
export const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.content;
