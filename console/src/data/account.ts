import { queryOptions, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { renew } from "./changes";
import { api, data } from "./client";
import type { Demands, Proof, TokenRequest } from "./types";

const tokens = queryOptions({ queryKey: ["account", "tokens"], queryFn: () => data(api.GET("/tokens")) });
const sessions = queryOptions({ queryKey: ["account", "sessions"], queryFn: () => data(api.GET("/sessions")) });
const demands = queryOptions({ queryKey: ["account", "demands"], queryFn: () => data(api.GET("/demands")) });

export const useTokens = () => useQuery(tokens);
export const useSessions = () => useQuery(sessions);
export const useDemands = () => useQuery(demands);

/** What somebody does about their own ways in, and a lead about what is demanded. */
export function useAccount() {
  const cache = useQueryClient();
  const onSettled = () => {
    renew(cache, ["account"]);
    renew(cache, ["session"]);
  };
  return {
    password: useMutation({
      mutationFn: (body: { before: string; password: string; code?: string }) => data(api.PUT("/session/password", { body })),
      onSettled,
    }),
    offer: useMutation({ mutationFn: () => data(api.GET("/session/factor")) }),
    factor: useMutation({
      mutationFn: (body: { secret: string; code: string }) => data(api.PUT("/session/factor", { body })),
      onSettled,
    }),
    dropFactor: useMutation({
      mutationFn: (person: string) => data(api.DELETE("/people/{person}/factor", { params: { path: { person } } })),
      onSettled,
    }),
    addToken: useMutation({ mutationFn: (body: TokenRequest) => data(api.POST("/tokens", { body })), onSettled }),
    endToken: useMutation({
      mutationFn: (token: string) => data(api.DELETE("/tokens/{token}", { params: { path: { token } } })),
      onSettled,
    }),
    endSession: useMutation({
      mutationFn: (session: string) => data(api.DELETE("/sessions/{session}", { params: { path: { session } } })),
      onSettled,
    }),
    demand: useMutation({ mutationFn: (body: Demands) => data(api.PUT("/demands", { body })), onSettled }),
  };
}

/** Says again who one is. */
export const prove = (body: Proof) => data(api.POST("/session/proof", { body }));
